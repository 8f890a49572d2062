import type { Gateway } from "../api/client";
import { when } from "./time";

/** How a gateway fares: a word and a small shape. Working stays quiet. */
export function Health({ health }: { health: Gateway["health"] }) {
  const shape = { working: "●", resting: "◌", paused: "‖" }[health.state];
  return <span className={health.state === "working" ? "fares" : "fares look"}><span aria-hidden="true">{shape}</span> {health.state}{health.cause && ` (${health.cause.replaceAll("_", " ")})`}</span>;
}

/** Why a gateway fares as it does, and what one should know. */
export function why(health: Gateway["health"]): string {
  return [health.why, health.until && `tried again at ${when(health.until)}`, health.advice, ...health.warnings].filter(Boolean).join(". ").replaceAll("..", ".");
}
