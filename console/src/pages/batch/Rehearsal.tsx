import { useMutation } from "@tanstack/react-query";
import { useRef } from "react";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type Batch, type BatchPart, type BatchTotals } from "../../api/client";
import { uploadCorrections } from "../../api/upload";
import { amount, segments, sums } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { reasons } from "./reasons";

function Parts({ head, parts }: { head: string; parts: BatchPart[] }) {
  const priced = parts.some((p) => p.cost.length > 0);
  return (
    <Table size="sm" className="w-auto">
      <thead>
        <tr>
          <th>{head}</th><th className="text-end">Messages</th><th className="text-end">Segments</th>
          {priced && <th className="text-end">Cost</th>}
        </tr>
      </thead>
      <tbody>
        {parts.slice(0, 12).map((p) => (
          <tr key={p.name}>
            <td>{p.name}</td><td className="text-end">{amount(p.rows)}</td><td className="text-end">{amount(p.segments)}</td>
            {priced && <td className="text-end text-nowrap">{p.cost.length > 0 && sums(p.cost)}</td>}
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** What makes texts dear for nothing, and what it would save to write it otherwise. */
function Curable({ totals: t }: { totals: BatchTotals }) {
  return (
    <p className="notice look">
      {amount(t.curable.rows)} texts are dear for characters that could be replaced:{" "}
      {t.characters.slice(0, 8).map((c) => (
        <span key={c.name} className="me-2"><mark className="forces">{c.name}</mark> in {amount(c.rows)}</span>
      ))}
      It would save {segments(t.curable.segments)}, {sums(t.curable.cost)}.
    </p>
  );
}

/** The rows that are left out as a sheet, and the way back for it once they are corrected. */
function LeftOut({ batch, corrected }: { batch: Batch; corrected: () => void }) {
  const input = useRef<HTMLInputElement>(null);
  const back = useMutation({
    mutationFn: async (file: File) => {
      await uploadCorrections(batch.id, file);
      await got(api.POST("/v1/batches/{id}/rehearse", { params: { path: { id: batch.id } } }));
    },
    onSettled: corrected,
  });
  return (
    <li>
      <a href={`/v1/batches/${batch.id}/result?left_out=any`}>As a sheet, with the reason beside each</a>
      {batch.state === "rehearsed" && (
        <>
          <input ref={input} id="corrected" type="file" className="visually-hidden" aria-label="The corrected sheet" tabIndex={-1}
            onChange={(e) => { if (e.target.files?.[0]) back.mutate(e.target.files[0]); e.target.value = ""; }} />
          <button className="plain ms-3" disabled={back.isPending} onClick={() => input.current?.click()}>
            Put the corrected sheet back
          </button>
        </>
      )}
      {back.error && <Refused error={back.error} />}
    </li>
  );
}

/** What rehearsing came to; every figure leads to its rows. */
export function Rehearsal({ batch, totals: t, corrected }: { batch: Batch; totals: BatchTotals; corrected: () => void }) {
  const left = t.rows - t.goes;
  const rows = (q: string) => `/batches/${batch.id}?${q}#rows`;
  const shown = [...t.random.slice(0, 3), ...t.longest.slice(0, 1)];
  return (
    <section className="step">
      <h2>Rehearsal</h2>
      <p className="account">
        <Link to={rows("rows=all")}>{amount(t.rows)} rows</Link> = <b>{amount(t.goes)} to send</b>
        {left > 0 && <> + <Link to={rows("left=any")}>{amount(left)} left out</Link></>}
      </p>
      {left > 0 && (
        <ul className="list-unstyled ms-3">
          {t.left.map((p) => <li key={p.name}><Link to={rows(`left=${p.name}`)}>{amount(p.rows)}</Link> {reasons[p.name] ?? p.name}</li>)}
          <LeftOut batch={batch} corrected={corrected} />
        </ul>
      )}
      <p>
        <b>{sums(t.cost)}</b> for {segments(t.segments)}{t.unpriced > 0 && `; of ${amount(t.unpriced)} messages the price is not known`}.
        {t.changed > 0 && ` ${amount(t.changed)} numbers are written otherwise than they stand there.`}
      </p>
      {t.curable.segments > 0 && <Curable totals={t} />}
      <div className="parts">
        <Parts head="Country" parts={t.countries} />
        <Parts head="Gateway" parts={t.gateways} />
        <Parts head="Segments each" parts={t.lengths} />
      </div>
      <h3>As some of them will arrive</h3>
      <ul className="papers">
        {shown.map((s, i) => (
          <li key={`${s.row}-${i}`}>
            <p>{s.text}</p>
            <span className="quiet">
              row {amount(s.row)}, <span className="mono">{s.to}</span>{i === 3 && ", the longest"}, {segments(s.segments)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
