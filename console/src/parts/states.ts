import type { State } from "../api/client";

/** Every state, in the order of the tally. */
export const states: State[] = [
  "held", "queued", "sending", "doubtful", "accepted", "enroute",
  "delivered", "undeliverable", "expired", "rejected", "cancelled", "unknown",
];

export type Mood = "moving" | "well" | "look" | "wrong";

/** How a state is to be taken: colour only where something wants a person. */
export function mood(state: State): Mood {
  switch (state) {
    case "delivered":
      return "well";
    case "doubtful":
    case "unknown":
    case "held":
      return "look";
    case "undeliverable":
    case "expired":
    case "rejected":
    case "cancelled":
      return "wrong";
    default:
      return "moving";
  }
}
