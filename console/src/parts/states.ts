import type { State } from "../api/client";

/** Every state, in the order of the tally. */
export const states: State[] = [
  "held", "queued", "sending", "doubtful", "accepted", "enroute",
  "delivered", "undeliverable", "expired", "rejected", "cancelled", "unknown",
];

/** What each is drawn in, where several are drawn together: what waits light, what arrived calm, the rest as it wants a person. */
export const colours: Record<State, string> = {
  held: "color-mix(in srgb, var(--look) 30%, var(--surface))", queued: "var(--line)", sending: "var(--plum)", doubtful: "var(--look)",
  accepted: "color-mix(in srgb, var(--quiet) 55%, var(--surface))", enroute: "color-mix(in srgb, var(--quiet) 35%, var(--surface))",
  delivered: "color-mix(in srgb, var(--well) 55%, var(--surface))",
  undeliverable: "var(--wrong)", expired: "color-mix(in srgb, var(--wrong) 75%, var(--surface))",
  rejected: "color-mix(in srgb, var(--wrong) 55%, var(--surface))", cancelled: "color-mix(in srgb, var(--wrong) 35%, var(--surface))",
  unknown: "color-mix(in srgb, var(--look) 60%, var(--surface))",
};

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
