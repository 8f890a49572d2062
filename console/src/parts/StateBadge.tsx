import type { Message, State } from "../api/client";
import { mood } from "./states";

/** How far round the ring is filled, in quarters. */
const advance: Partial<Record<State, number>> = { queued: 0, sending: 1, accepted: 2, enroute: 3 };

function Shape({ state }: { state: State }) {
  const ring = <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="1.8" />;
  switch (state) {
    case "delivered":
      return <circle cx="8" cy="8" r="6.5" fill="currentColor" />;
    case "held":
      return <path d="M4.5 2.500v11M11.5 2.500v11" stroke="currentColor" strokeWidth="3" />;
    case "doubtful":
      return <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="2" strokeDasharray="2.3 2.4" />;
    case "unknown":
      return <rect x="2.5" y="2.5" width="11" height="11" fill="none" stroke="currentColor" strokeWidth="1.8" />;
    case "undeliverable":
    case "expired":
    case "rejected":
    case "cancelled":
      return (
        <>
          <circle cx="8" cy="8" r="6.5" fill="currentColor" />
          <path d="M5.3 5.300l5.4 5.400M10.7 5.300l-5.4 5.4" stroke="var(--bs-body-bg)" strokeWidth="1.8" />
        </>
      );
    default: {
      const quarters = advance[state] ?? 0;
      const end = ["", "M8 8V2A6 6 0 0 1 14 8Z", "M8 2A6 6 0 0 1 8 14Z", "M8 8V2A6 6 0 1 1 2 8Z"][quarters];
      return (
        <>
          {ring}
          {end && <path d={end} fill="currentColor" />}
        </>
      );
    }
  }
}

/** A state: a word and a small shape together. Delivered stays quiet. Of a message it also says how firmly it is known. */
export function StateBadge({ state, m }: { state: State; m?: Message }) {
  const contested = m !== undefined && m.rivals.length > 1;
  const how = contested ? "look" : m?.decided && state === "unknown" ? "moving" : mood(state);
  return (
    <span className={`state ${how === "moving" ? "quietly" : how}`}>
      <svg viewBox="0 0 16 16" aria-hidden="true"><Shape state={state} /></svg>
      {state}
      {contested ? ", contested" : m?.weak ? ", weakly known" : m?.decided && ", decided"}
    </span>
  );
}
