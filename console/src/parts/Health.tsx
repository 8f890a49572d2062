import type { Gateway } from "../api/client";
import { when } from "./time";

/** How a gateway fares: a word and a small shape. Working stays quiet. */
export function Health({ health }: { health: Gateway["health"] }) {
  const shape = { working: "●", resting: "◌", paused: "‖" }[health.state];
  return <span className={health.state === "working" ? "fares" : "fares look"}><span aria-hidden="true">{shape}</span> {health.state}{health.cause && ` (${health.cause.replaceAll("_", " ")})`}</span>;
}

/** What is left on an account, as people write it. */
export function left(balance: NonNullable<Gateway["health"]["balance"]>): string {
  return `${Number(balance.amount).toFixed(2)} ${balance.currency}`;
}

/** Why a gateway fares as it does, and what one should know. */
export function why(health: Gateway["health"]): string {
  const again = health.until && (new Date(health.until) > new Date() ? `It is tried again at ${when(health.until)}` : "It is tried again with the next message");
  const said = [health.why && health.why[0]!.toUpperCase() + health.why.slice(1), health.advice, again, ...health.warnings].filter(Boolean);
  return said.map((s) => `${s}`.replaceAll("_", " ").replace(/\.?$/, ".")).join(" ");
}
