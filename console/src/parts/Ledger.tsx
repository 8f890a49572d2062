import { Fragment, useState } from "react";
import Table from "react-bootstrap/Table";
import type { Evidence, Message } from "../api/client";
import { Raw } from "./Raw";
import { StateBadge } from "./StateBadge";
import { precisely } from "./time";

function said(e: Evidence): string {
  const billed = [e.segments > 0 && `${e.segments} ${e.segments === 1 ? "segment" : "segments"}`, e.charge && `charged ${e.charge.amount} ${e.charge.currency}`];
  return [...new Set([e.gateway_ref, e.code, e.cause.replaceAll("_", " "), e.note, ...billed])].filter(Boolean).join(" · ");
}

const sourceWords: Record<Evidence["source"], string> = {
  own: "we", reply: "reply", receipt: "receipt", query: "query", statement: "statement", operator: "operator", clock: "clock",
};

/** A message's story: who claimed what and when, and what that made of it. */
export function Ledger({ message }: { message: Message }) {
  const [open, setOpen] = useState<string | null>(null);
  const evidence = message.evidence ?? [];
  return (
    <Table className="ledger">
      <thead>
        <tr><th>Our time</th><th className="ours">Gateway's time</th><th>Source</th><th className="try">Try</th><th>Claims</th><th>Makes it</th><th>What was said</th><th /></tr>
      </thead>
      <tbody>
        {evidence.map((e, i) => (
          <Fragment key={e.id}>
            <tr>
              <td className="mono">{precisely(e.at)}</td>
              <td className="mono ours quiet">{e.gateway_at ? precisely(e.gateway_at) : ""}</td>
              <td>{sourceWords[e.source]}</td>
              <td className="try">{e.attempt || ""}</td>
              <td className={e.withdrawn ? "gone" : undefined}>
                {e.claim || <span className="quiet">nothing</span>}
                {e.claim && e.weak && <span className="quiet"> weak</span>}
                {e.claim && e.part > 0 && ` ${e.part}/${e.parts}`}
              </td>
              <td className="makes">{evidence[i - 1]?.state_after === e.state_after ? <span className="quiet">no change</span> : <StateBadge state={e.state_after} />}</td>
              <td className="said">{e.withdrawn && <span className="quiet">withdrawn · </span>}{said(e)}</td>
              <td>
                {e.raw && (
                  <button className="unfold" aria-expanded={open === e.id} onClick={() => setOpen(open === e.id ? null : e.id)}>
                    {open === e.id ? "fold" : "raw"}
                  </button>
                )}
              </td>
            </tr>
            {e.raw && open === e.id && <tr className="raw"><td colSpan={8}><Raw x={e.raw} /></td></tr>}
          </Fragment>
        ))}
        {message.repeats > 0 && (
          <tr>
            <td colSpan={8} className="quiet">
              {message.repeats === 1 ? "Once" : `${message.repeats} times`} something was said again, word for word, that is evidence already.
            </td>
          </tr>
        )}
      </tbody>
    </Table>
  );
}
