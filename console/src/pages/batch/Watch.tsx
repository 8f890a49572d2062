import { useMutation } from "@tanstack/react-query";
import Button from "react-bootstrap/Button";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type Batch } from "../../api/client";
import { amount, sums } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { StateBadge } from "../../parts/StateBadge";
import { when } from "../../parts/time";
import { Course } from "./Course";
import { Forecast } from "./Forecast";
import { countryName } from "../../parts/words";

const acts = {
  approve: "Approve it", pause: "Pause", resume: "Let it go on", release: "Release the rest", cancel: "Withdraw the rest",
} as const;
type What = keyof typeof acts;

/** What can be done with a batch as it is. */
function possible(batch: Batch): What[] {
  const can: What[] = [];
  const active = ["running", "paused", "held"].includes(batch.state);
  if (active && batch.launch?.approval) can.push("approve");
  if (batch.state === "running") can.push("pause");
  if ((batch.state === "paused" || batch.state === "held") && !batch.launch?.approval) can.push("resume");
  if (active && batch.waits.some((w) => w.for === "scouts")) can.push("release");
  if (active) can.push("cancel");
  return can;
}

const awaited = {
  scouts: "the scouts", start: "its start", quiet_hours: "the end of quiet hours", own_time: "times of their own",
} as const;

/** What rows wait for, beside their turn. */
function Waits({ batch }: { batch: Batch }) {
  return (
    <ul className="list-unstyled">
      {batch.waits.map((w) => (
        <li key={w.for + w.country + w.until}>
          <b>{amount(w.rows)}</b> {w.rows === 1 ? "waits" : "wait"} for {awaited[w.for]}
          {w.country && ` in ${countryName(w.country)}`}{w.until && `, until ${when(w.until)}`}
        </li>
      ))}
    </ul>
  );
}

/** What did not arrive, by why. */
function Failures({ batch }: { batch: Batch }) {
  return (
    <>
      <h3>What did not arrive, and why</h3>
      <Table size="sm" className="w-auto">
        <tbody>
          {batch.failures.map((f) => (
            <tr key={f.state + f.cause}>
              <td className="text-end"><Link to={`/batches/${batch.id}?state=${f.state}#rows`}>{amount(f.n)}</Link></td>
              <td><StateBadge state={f.state} /></td><td className="mono">{f.cause}</td><td>{f.advice}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

/** Who did what with it. */
function Acts({ batch }: { batch: Batch }) {
  return (
    <>
      <h3>What was done with it</h3>
      <ul className="list-unstyled">
        {batch.acts.map((x) => (
          <li key={x.at + x.act}>
            <span className="quiet me-2">{when(x.at)}</span>{x.act}{x.by && <span className="quiet">, by {x.by}</span>}
          </li>
        ))}
      </ul>
    </>
  );
}

/** How a launched batch goes, the means to hold it back, and its result. */
export function Watch({ batch, changed }: { batch: Batch; changed: () => void }) {
  const act = useMutation({
    mutationFn: (what: What) => got(api.POST(`/v1/batches/{id}/${what}`, { params: { path: { id: batch.id } } })),
    onSettled: changed,
  });
  const can = possible(batch);
  const result = `/v1/batches/${batch.id}/result`;
  return (
    <section className="step">
      {batch.why && <p className={`notice ${batch.state === "cancelled" ? "" : "look"}`} role="status">{batch.state}: {batch.why}</p>}
      {batch.finished_at && <p role="status">It came to its end at {when(batch.finished_at)}.</p>}
      <p>
        <b>{batch.spent.length > 0 ? sums(batch.spent) : "Nothing"}</b> spent so far, of {sums(batch.totals?.cost ?? [])} estimated;
        {" "}{amount(batch.segments)} of {amount(batch.totals?.segments ?? 0)} segments
        {batch.launch?.pace && <>; not faster than {batch.launch.pace}</>}
        {batch.launch?.scouts && <>; {batch.launch.scouts} scouts went first</>}
        {batch.launch?.budget && <>; at most {batch.launch.budget}</>}
        {batch.launch?.starts_at && <>; starts at {when(batch.launch.starts_at)}</>}.
      </p>
      {batch.waits.length > 0 && <Waits batch={batch} />}
      {batch.launch?.approval && (
        <p className="quiet">Whoever approves it is signed in with another key than the one that it was launched with.</p>
      )}
      {["running", "paused", "held"].includes(batch.state) && <Forecast batch={batch} launch={{}} />}
      {can.length > 0 && (
        <p className="filters">
          {can.map((what) => (
            <Button key={what} data-act={what} variant={what === "cancel" ? "outline-danger" : "outline-primary"}
              disabled={act.isPending} onClick={() => act.mutate(what)}>{acts[what]}</Button>
          ))}
        </p>
      )}
      {act.error && <Refused error={act.error} />}
      <Course batch={batch} />
      {batch.failures.length > 0 && <Failures batch={batch} />}
      {batch.through.length > 1 && (
        <>
          <h3>Through which gateway</h3>
          <Table size="sm" className="w-auto">
            <tbody>
              {batch.through.map((t) => (
                <tr key={t.gateway}>
                  <td>{t.gateway}</td><td>{Object.entries(t.states).map(([s, n]) => `${amount(n)} ${s}`).join(", ")}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      {batch.acts.length > 0 && <Acts batch={batch} />}
      <h2>Result</h2>
      <p>
        The list as it came, with what became of each row: <a href={result}>as it came</a>,{" "}
        <a href={`${result}?format=csv`}>CSV</a>, <a href={`${result}?format=xlsx`}>XLSX</a>.
        {!batch.finished_at && " At any time, also before its end."}
      </p>
    </section>
  );
}
