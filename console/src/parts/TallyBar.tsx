import { Fragment } from "react";
import { Link } from "react-router";
import type { Tally } from "../api/client";
import { mood, states } from "./states";

const number = new Intl.NumberFormat("en-GB");

/**
 * The account of a set of messages. `to` gives the address of those in a
 * state, `contested` is that of those whose claims contradict each other.
 */
export function TallyBar({ tally, to, contested }: { tally: Tally; to: (state?: string) => string; contested: string }) {
  const present = states.filter((s) => (tally.states[s] ?? 0) > 0);
  return (
    <section className="tally" aria-label="Tally">
      <div className="bar" aria-hidden="true">
        {present.map((s) => (
          <Link key={s} to={to(s)} tabIndex={-1} className={mood(s)} style={{ flexGrow: tally.states[s] }} title={`${number.format(tally.states[s]!)} ${s}`} />
        ))}
      </div>
      <div className="sum">
        <Link to={to()}>{number.format(tally.total)} {tally.total === 1 ? "message" : "messages"}</Link>
        {present.map((s, i) => (
          <Fragment key={s}>
            {i === 0 ? " = " : " + "}
            <Link to={to(s)} className={mood(s)}>{number.format(tally.states[s]!)} {s}</Link>
          </Fragment>
        ))}
        {tally.contested > 0 && <span className="ms-3"><Link to={contested} className="look">{number.format(tally.contested)} contested</Link></span>}
      </div>
    </section>
  );
}
