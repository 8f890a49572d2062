import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got, type Need } from "../api/client";
import { Refused } from "../parts/Refused";
import { TallyBar } from "../parts/TallyBar";
import { midnight, roughly, when } from "../parts/time";

/** One sentence that says whether anybody is wanted. */
function summary(needs: Need[]): string {
  if (needs.length === 0) return "Nothing wants anybody";
  return needs.length === 1 ? "One thing wants somebody" : `${needs.length} things want somebody`;
}

function Wanted({ need }: { need: Need }) {
  return (
    <li className={need.wrong ? "need pressing" : "need"}>
      <h2>
        <Link to={need.link}>{need.title}</Link>
        {need.since && <span className="quiet fw-normal"> since {when(need.since)}</span>}
      </h2>
      <p>
        {need.why} <span className="quiet">{need.cost}</span>
      </p>
      <p>{need.do}</p>
      <code className="mono">{need.command}</code>
    </li>
  );
}

/** Today's account, and what wants a person. */
export function Today() {
  const since = midnight().toISOString();
  const tally = useQuery({
    queryKey: ["messages", "tally", "today", since],
    queryFn: () => got(api.GET("/v1/tally", { params: { query: { since } } })),
  });
  const needs = useQuery({
    queryKey: ["attention"],
    queryFn: () => got(api.GET("/v1/attention")),
    refetchInterval: 3000,
  });
  const arrivals = useQuery({
    queryKey: ["arrivals", "today", since],
    queryFn: () => got(api.GET("/v1/arrivals", { params: { query: { since, step: "hour" } } })),
    refetchInterval: 10_000,
  });
  const items = needs.data?.items;
  const took = arrivals.data?.all;
  return (
    <div className="page">
      <h1>
        {items ? summary(items) : " "} <span className="quiet fw-normal fs-6">today</span>
      </h1>
      {tally.data && (
        <TallyBar
          tally={tally.data}
          to={(s) => `/messages?span=today${s ? `&state=${s}` : ""}`}
          contested="/messages?span=today&contested=true"
        />
      )}
      {took && took.p50_ms !== null && took.p90_ms !== null && (
        <p className="mt-2 mb-0">
          <Link to="/arrivals">
            Half arrive within {roughly(took.p50_ms)}, nine in ten within {roughly(took.p90_ms)}
          </Link>
        </p>
      )}
      {tally.error && <Refused error={tally.error} />}
      {needs.error && !items && <Refused error={needs.error} />}
      {items && items.length > 0 && (
        <ul className="needs">
          {items.map((n) => (
            <Wanted key={`${n.what} ${n.link}`} need={n} />
          ))}
        </ul>
      )}
      {items && items.length === 0 && (
        <p className="empty">
          Whatever wants a decision stands here: messages whose end nobody knows, receipts without a message, gateways that rest or fall
          silent. Each with why, what it costs to wait, and what to do.
        </p>
      )}
    </div>
  );
}
