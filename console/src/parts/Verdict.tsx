import type { Recipient } from "../api/client";
import { Link } from "react-router";

const words = { allowed: "may go", unknown: "not known: ask the gateway", careful: "may go, with care", refused: "may not go" };

/** Whether a text may go to a recipient, by which rule, and at what price. */
export function Verdict({ recipient: r }: { recipient: Recipient }) {
  const n = r.number;
  const d = r.decision;
  const say = d?.findings.filter((f) => f.verdict !== "allowed") ?? [];
  return (
    <div className="verdict" aria-live="polite">
      {n && (
        <p>
          <span className="mono">{n.display}</span>, {n.country_name}{n.region && `, ${n.region}`}, {n.line.replaceAll("_", " ")}
          {n.fictional && <span className="quiet">, reserved for fiction</span>}
          {n.changes.length > 0 && <span className="quiet d-block">{n.changes.join(", ")}</span>}
        </p>
      )}
      {!n && r.country && <p>{r.country_name}</p>}
      {r.sender && <p>From <b>{r.sender}</b> {/[^\d+]/.test(r.sender) && <span className="quiet">{[...r.sender].length} of 11 characters</span>}</p>}
      {r.country && r.segments > 0 && <p>{r.price ? <><b>{r.price.amount} {r.price.currency}</b> through {r.gateway}</> : <span className="quiet">Price unknown{r.gateway && `: ${r.gateway} has none for ${r.country_name}`}</span>}</p>}
      {r.gateway && r.why && <p className="quiet">{r.gateway}: {r.why}</p>}
      {d && (
        <p className={d.verdict === "refused" ? "wrong" : d.verdict === "careful" ? "look" : ""}>
          {words[d.verdict]}, by the rule <Link to={`/countries?q=${r.country}`}>{d.rule}</Link>
        </p>
      )}
      <ul>
        {say.map((f) => <li key={f.about + f.say}>{f.say}{f.do && <span className="quiet d-block">{f.do}</span>}</li>)}
        {r.warnings.filter((w) => !say.some((f) => w.say.startsWith(f.say))).map((w) => <li key={w.say}>{w.say}</li>)}
      </ul>
    </div>
  );
}
