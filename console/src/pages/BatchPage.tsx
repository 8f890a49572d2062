import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Batch, type BatchPart, type BatchTotals, type BatchWants } from "../api/client";
import { useWeighing } from "../api/weigh";
import { amount, sums } from "../parts/amount";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { TallyBar } from "../parts/TallyBar";
import { when } from "../parts/time";
import { WritingBox } from "../parts/WritingBox";

const reasons: Record<string, string> = {
  unreadable: "cells that cannot be told apart",
  number: "no number",
  line: "a line that takes no texts",
  repeated: "the number stands there before",
  opted_out: "opted out",
  no_route: "no gateway takes it",
  sender: "the country does not take the sender",
  field: "a field is missing or wrong",
  too_long: "too long",
  link: "a link where none may be",
  time: "a time that is none, or over",
  text: "the text cannot go",
  other: "something else",
};

const roles: Record<string, string> = { to: "numbers", country: "countries", language: "languages", name: "names", reference: "references", at: "times", text: "texts", "": "a field" };

const steps = ["List", "Text", "Rehearsal", "Launch", "Result"] as const;

/** At which step a batch is. */
function stepOf(b: Batch) {
  switch (b.state) {
    case "open":
      return 1;
    case "checking":
    case "rehearsed":
      return 2;
    case "finished":
    case "cancelled":
      return 4;
    default:
      return 3;
  }
}

function Steps({ at }: { at: number }) {
  return (
    <ol className="steps" aria-label="Steps">
      {steps.map((s, i) => <li key={s} className={i < at ? "past" : i === at ? "here" : ""} aria-current={i === at ? "step" : undefined}>{s}</li>)}
    </ol>
  );
}

/** The list as it was recognised, with its first rows; what a column is for can be put right. */
function List({ batch, change }: { batch: Batch; change?: (columns: Record<string, string>) => void }) {
  const { data } = useQuery({
    queryKey: ["batches", batch.id, "first", batch.rows],
    queryFn: () => got(api.GET("/v1/batches/{id}/rows", { params: { path: { id: batch.id }, query: { limit: 3 } } })),
  });
  return (
    <section className="step">
      <h2>List</h2>
      <p className="mb-2">{batch.file && <b>{batch.file}: </b>}{batch.recognised}; {amount(batch.rows)} rows.</p>
      <div className="table-responsive">
        <Table size="sm" className="w-auto">
          <thead>
            <tr>{batch.columns.map((c) => <th key={c.head}>{c.head}</th>)}</tr>
            <tr>
              {batch.columns.map((c) => (
                <th key={c.head} className="fw-normal">
                  {change ? (
                    <Form.Select size="sm" aria-label={`What ${c.head} is for`} title={c.why} value={c.role}
                      onChange={(e) => change(e.target.value === "" ? { [c.role]: "" } : { [e.target.value]: c.head })}>
                      {Object.entries(roles).map(([role, word]) => <option key={role} value={role}>{word}</option>)}
                    </Form.Select>
                  ) : <span className="quiet" title={c.why}>{roles[c.role]}</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data?.items.map((r) => <tr key={r.row}>{batch.columns.map((c) => <td key={c.head} className={c.role === "to" ? "mono" : ""}>{r.cells[c.head]}</td>)}</tr>)}
          </tbody>
        </Table>
      </div>
    </section>
  );
}

/** What is sent, and how. */
function Text({ batch, save, pending }: { batch: Batch; save: (w: BatchWants) => void; pending: boolean }) {
  const [w, set] = useState<BatchWants>(batch.wants as BatchWants);
  const templates = useQuery({ queryKey: ["templates"], queryFn: () => got(api.GET("/v1/templates")) });
  const senders = useQuery({ queryKey: ["senders"], queryFn: () => got(api.GET("/v1/senders")) });
  const weighing = useWeighing({ text: w.text ?? "", to: [], kind: "bulk", cure: "off" }).data;
  const change = (c: Partial<BatchWants>) => set({ ...w, ...c });
  const fields = batch.columns.filter((c) => c.role !== "to").map((c) => `{${c.head}}`);
  return (
    <section className="step">
      <h2>Text</h2>
      <Form onSubmit={(e) => { e.preventDefault(); save(w); }}>
        {(templates.data?.items.length ?? 0) > 0 && (
          <div className="field">
            <Form.Label htmlFor="template">Wording</Form.Label>
            <Form.Select id="template" value={w.template} onChange={(e) => change({ template: e.target.value, text: e.target.value ? "" : w.text })}>
              <option value="">A text of my own</option>
              {templates.data?.items.map((t) => <option key={t.name} value={t.name}>{t.name}{t.about && `: ${t.about}`}</option>)}
            </Form.Select>
          </div>
        )}
        {!w.template && (
          <div className="field">
            <WritingBox id="text" value={w.text ?? ""} onChange={(text) => change({ text })} weighing={weighing} placeholder="Dear {Name|passenger}, all crossings on Sunday are cancelled." onSend={() => save(w)} />
            {fields.length > 0 && <p className="quiet mb-0">Fields of the list: {fields.map((f) => <button key={f} type="button" className="plain me-2" onClick={() => change({ text: (w.text ?? "") + f })}>{f}</button>)}</p>}
          </div>
        )}
        <div className="row2">
          <div className="field">
            <Form.Label htmlFor="sender">From</Form.Label>
            <Form.Select id="sender" value={w.sender} onChange={(e) => change({ sender: e.target.value })}>
              <option value="">The usual one for the country</option>
              {senders.data?.items.map((s) => <option key={s.sender} value={s.sender}>{s.sender}</option>)}
            </Form.Select>
          </div>
          <div className="field">
            <Form.Label htmlFor="country">Numbers without a country code are dialled in</Form.Label>
            <Form.Control id="country" className="w-auto" maxLength={2} htmlSize={4} value={w.country} placeholder="GB" onChange={(e) => change({ country: e.target.value.toUpperCase() })} />
          </div>
        </div>
        <div className="filters">
          <Form.Check id="cure" type="checkbox" label="replace characters nobody notices" checked={w.cure === "safe"} onChange={(e) => change({ cure: e.target.checked ? "safe" : "" as BatchWants["cure"] })} />
          <Form.Check id="hours" type="checkbox" label="send in quiet hours, too" checked={w.at_any_hour} onChange={(e) => change({ at_any_hour: e.target.checked })} />
        </div>
        <Button type="submit" disabled={pending}>Rehearse</Button><span className="quiet ms-3">Nothing is sent.</span>
      </Form>
    </section>
  );
}

function Parts({ head, parts }: { head: string; parts: BatchPart[] }) {
  const priced = parts.some((p) => p.cost.length > 0);
  return (
    <Table size="sm" className="w-auto">
      <thead><tr><th>{head}</th><th className="text-end">Messages</th><th className="text-end">Segments</th>{priced && <th className="text-end">Cost</th>}</tr></thead>
      <tbody>
        {parts.slice(0, 12).map((p) => (
          <tr key={p.name}><td>{p.name}</td><td className="text-end">{amount(p.rows)}</td><td className="text-end">{amount(p.segments)}</td>{priced && <td className="text-end text-nowrap">{p.cost.length > 0 && sums(p.cost)}</td>}</tr>
        ))}
      </tbody>
    </Table>
  );
}

/** What rehearsing came to; every figure leads to its rows. */
function Rehearsal({ batch, totals: t }: { batch: Batch; totals: BatchTotals }) {
  const left = t.rows - t.goes;
  const rows = (q: string) => `/batches/${batch.id}?${q}#rows`;
  return (
    <section className="step">
      <h2>Rehearsal</h2>
      <p className="account">
        <Link to={rows("rows=all")}>{amount(t.rows)} rows</Link> = <b>{amount(t.goes)} to send</b>{left > 0 && <> + <Link to={rows("left=any")} className="look">{amount(left)} left out</Link></>}
      </p>
      {left > 0 && (
        <ul className="list-unstyled ms-3">
          {t.left.map((p) => <li key={p.name}><Link to={rows(`left=${p.name}`)}>{amount(p.rows)}</Link> {reasons[p.name] ?? p.name}</li>)}
          <li><a href={`/v1/batches/${batch.id}/result?left_out=any`}>As a sheet, with the reason beside each</a></li>
        </ul>
      )}
      <p>
        <b>{sums(t.cost)}</b> for {amount(t.segments)} segments{t.unpriced > 0 && `; of ${amount(t.unpriced)} messages the price is not known`}.
        {t.changed > 0 && ` ${amount(t.changed)} numbers are written otherwise than they stand there.`}
      </p>
      {t.curable.segments > 0 && (
        <p className="notice look">
          {amount(t.curable.rows)} texts are dear for characters that could be replaced: {t.characters.slice(0, 8).map((c) => <span key={c.name} className="me-2"><mark className="forces">{c.name}</mark> in {amount(c.rows)}</span>)}
          It would save {amount(t.curable.segments)} segments, {sums(t.curable.cost)}.
        </p>
      )}
      <div className="parts">
        <Parts head="Country" parts={t.countries} />
        <Parts head="Gateway" parts={t.gateways} />
        <Parts head="Segments each" parts={t.lengths} />
      </div>
      <h3>As some of them will arrive</h3>
      <ul className="papers">
        {[...t.random.slice(0, 3), ...t.longest.slice(0, 1)].map((s, i) => (
          <li key={`${s.row}-${i}`}><p>{s.text}</p><span className="quiet">row {amount(s.row)}, <span className="mono">{s.to}</span>{i === 3 && ", the longest"}, {s.segments === 1 ? "1 segment" : `${s.segments} segments`}</span></li>
        ))}
      </ul>
    </section>
  );
}

/** One row to oneself, and then the launch. */
function Go({ batch, launched }: { batch: Batch; launched: () => void }) {
  const [to, setTo] = useState("");
  const [scouts, setScouts] = useState("");
  const [pace, setPace] = useState("");
  const [starts, setStarts] = useState("");
  const [again, setAgain] = useState(false);
  const attempt = useMutation({ mutationFn: () => got(api.POST("/v1/batches/{id}/try", { params: { path: { id: batch.id } }, body: { to } })) });
  const launch = useMutation({
    mutationFn: () => got(api.POST("/v1/batches/{id}/launch", { params: { path: { id: batch.id } }, body: { scouts, pace, again, starts_at: starts ? new Date(starts).toISOString() : undefined } })),
    onSuccess: launched,
  });
  return (
    <section className="step" id="launch">
      <h2>Launch</h2>
      <Form className="filters" onSubmit={(e) => { e.preventDefault(); attempt.mutate(); }}>
        <Form.Control className="w-auto mono" value={to} aria-label="Your own number" placeholder="+447700900123" onChange={(e) => setTo(e.target.value)} />
        <Button type="submit" variant="outline-primary" disabled={!to.trim() || attempt.isPending}>Send the longest to me first</Button>
        {attempt.data && <Link to={`/messages/${attempt.data.id}`}>How it fares</Link>}
      </Form>
      {attempt.error && <Refused error={attempt.error} />}
      <Form onSubmit={(e) => { e.preventDefault(); launch.mutate(); }}>
        <div className="row2 launch">
          <div className="field"><Form.Label htmlFor="scouts">Scouts that go first</Form.Label><Form.Control id="scouts" value={scouts} placeholder="none; or 50, or 2%" onChange={(e) => setScouts(e.target.value)} /></div>
          <div className="field"><Form.Label htmlFor="pace">Not faster than</Form.Label><Form.Control id="pace" value={pace} placeholder="as gateways go; or 500/s, 2000/h" onChange={(e) => setPace(e.target.value)} /></div>
          <div className="field"><Form.Label htmlFor="starts">Starts</Form.Label><Form.Control id="starts" type="datetime-local" value={starts} onChange={(e) => setStarts(e.target.value)} /></div>
        </div>
        {launch.error && <Refused error={launch.error} />}
        {launch.error && <Form.Check id="again" className="mb-2" label="send it though the same list and text have gone already" checked={again} onChange={(e) => setAgain(e.target.checked)} />}
        <Button type="submit" disabled={launch.isPending}>Send {amount(batch.totals?.goes ?? 0)} messages{scouts && `, ${scouts} first`}</Button>
      </Form>
    </section>
  );
}

const acts = { pause: "Pause", resume: "Let it go on", release: "Release the rest", cancel: "Withdraw the rest" } as const;

/** How a launched batch goes, and the means to hold it back. */
function Watch({ batch, changed }: { batch: Batch; changed: () => void }) {
  const act = useMutation({
    mutationFn: (what: keyof typeof acts) => got(api.POST(`/v1/batches/{id}/${what}`, { params: { path: { id: batch.id } } })),
    onSettled: changed,
  });
  const tally = batch.tally!;
  const can: (keyof typeof acts)[] = [];
  if (batch.state === "running") can.push("pause");
  if (batch.state === "paused" || batch.state === "held") can.push("resume");
  if (batch.launch?.scouts && (tally.states["held"] ?? 0) > 0 && !batch.finished_at && batch.state !== "cancelled") can.push("release");
  if (["running", "paused", "held"].includes(batch.state)) can.push("cancel");
  return (
    <section className="step">
      {batch.why && <p className={`notice ${batch.state === "cancelled" ? "" : "look"}`} role="status">{batch.state}: {batch.why}</p>}
      {batch.finished_at && <p role="status">It came to its end at {when(batch.finished_at)}.</p>}
      <p>
        <b>{batch.spent.length > 0 ? sums(batch.spent) : "Nothing"}</b> spent so far, of {sums(batch.totals?.cost ?? [])} estimated
        {batch.launch?.pace && <>; not faster than {batch.launch.pace}</>}
        {batch.launch?.scouts && <>; {batch.launch.scouts} scouts went first</>}
        {batch.launch?.starts_at && <>; starts at {when(batch.launch.starts_at)}</>}.
      </p>
      {can.length > 0 && <p className="filters">{can.map((what) => <Button key={what} data-act={what} variant={what === "cancel" ? "outline-danger" : "outline-primary"} disabled={act.isPending} onClick={() => act.mutate(what)}>{acts[what]}</Button>)}</p>}
      {act.error && <Refused error={act.error} />}
      {batch.failures.length > 0 && (
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
      )}
      {batch.through.length > 1 && (
        <>
          <h3>Through which gateway</h3>
          <Table size="sm" className="w-auto">
            <tbody>{batch.through.map((t) => <tr key={t.gateway}><td>{t.gateway}</td><td>{Object.entries(t.states).map(([s, n]) => `${amount(n)} ${s}`).join(", ")}</td></tr>)}</tbody>
          </Table>
        </>
      )}
      {batch.acts.length > 0 && (
        <>
          <h3>What was done with it</h3>
          <ul className="list-unstyled">
            {batch.acts.map((x) => (
              <li key={x.at + x.act}><span className="quiet me-2">{when(x.at)}</span>{x.act}{x.by && <span className="quiet">, by {x.by}</span>}</li>
            ))}
          </ul>
        </>
      )}
      <h2>Result</h2>
      <p>
        The list as it came, with what became of each row: <a href={`/v1/batches/${batch.id}/result`}>as it came</a>, <a href={`/v1/batches/${batch.id}/result?format=csv`}>CSV</a>, <a href={`/v1/batches/${batch.id}/result?format=xlsx`}>XLSX</a>.
        {tally.total > 0 && !batch.finished_at && " At any time, also before its end."}
      </p>
    </section>
  );
}

/** Rows of a batch, chosen by why they are left out or by their state. */
function Rows({ batch }: { batch: Batch }) {
  const [search, setSearch] = useSearchParams();
  const left = search.get("left") ?? undefined;
  const state = search.get("state") ?? undefined;
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["batches", batch.id, "rows", left, state, batch.state],
    queryFn: ({ pageParam }) => got(api.GET("/v1/batches/{id}/rows", { params: { path: { id: batch.id }, query: { left_out: left, state: state as "held" | undefined, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section className="step" id="rows">
      <h2>Rows {left ? `that are left out${left === "any" ? "" : `: ${reasons[left] ?? left}`}` : state ? `that are ${state}` : ""} <button className="plain ms-2" onClick={() => setSearch({})}>close</button></h2>
      {error && <Refused error={error} />}
      {data && items.length === 0 && <p className="empty">There are none.</p>}
      {items.length > 0 && (
        <div className="table-responsive">
          <Table size="sm">
            <thead><tr><th className="text-end">Row</th><th>To</th><th>{left ? "Why" : "State"}</th><th>Text</th></tr></thead>
            <tbody>
              {items.map((r) => (
                <tr key={r.row}>
                  <td className="text-end">{amount(r.row)}</td>
                  <td className="mono text-nowrap">{r.message ? <Link to={`/messages/${r.message}`}>{r.to}</Link> : r.to || Object.values(r.cells).filter(Boolean).slice(0, 2).join(", ")}</td>
                  <td>{r.left_out ? r.say || reasons[r.left_out] : r.state ? <><StateBadge state={r.state as "held"} /> {r.cause && <span className="quiet">{r.cause}</span>}</> : <span className="quiet">{r.say}</span>}</td>
                  <td>{r.text}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {hasNextPage && <Button variant="outline-primary" disabled={isFetching} onClick={() => void fetchNextPage()}>More</Button>}
    </section>
  );
}

/** One batch, from its list to its result; it can be left and taken up again at any step. */
export function BatchPage() {
  const { id } = useParams();
  const queries = useQueryClient();
  const [search] = useSearchParams();
  const [edit, setEdit] = useState(false);
  const { data: batch, error } = useQuery({
    queryKey: ["batches", id, "one"],
    queryFn: () => got(api.GET("/v1/batches/{id}", { params: { path: { id: id! } } })),
    refetchInterval: (q) => (q.state.data && (q.state.data.finished_at || ["open", "rehearsed"].includes(q.state.data.state)) ? false : 1000),
  });
  const changed = () => void queries.invalidateQueries({ queryKey: ["batches", id, "one"] });
  const put = useMutation({
    mutationFn: async ({ wants, rehearse }: { wants: BatchWants; rehearse: boolean }) => {
      await got(api.PUT("/v1/batches/{id}", { params: { path: { id: id! } }, body: wants }));
      if (rehearse) await got(api.POST("/v1/batches/{id}/rehearse", { params: { path: { id: id! } } }));
    },
    onSuccess: () => setEdit(false),
    onSettled: changed,
  });
  if (error && !batch) return <div className="page"><p><Link to="/batches">Batches</Link></p><Refused error={error} /></div>;
  if (!batch) return null;
  const editing = batch.state === "open" || (edit && batch.state === "rehearsed");
  const rows = (state?: string) => `/batches/${batch.id}?${state ? `state=${state}` : "rows=all"}#rows`;
  return (
    <div className="page">
      <p><Link to="/batches">Batches</Link></p>
      <h1>{batch.wants.name || "A batch without a name"}</h1>
      <Steps at={stepOf(batch)} />
      {batch.tally && <TallyBar tally={batch.tally} to={rows} contested={rows()} />}
      {search.size > 0 && <Rows batch={batch} />}
      {batch.tally && <Watch batch={batch} changed={changed} />}
      {batch.state === "checking" && <p role="status">Rehearsing, {amount(batch.checked)} of {amount(batch.rows)} rows.</p>}
      {batch.why && batch.state === "open" && <p className="notice wrong" role="alert">{batch.why}</p>}
      {editing && <List batch={batch} change={(columns) => put.mutate({ wants: { ...(batch.wants as BatchWants), columns }, rehearse: false })} />}
      {editing && <Text batch={batch} pending={put.isPending} save={(wants) => put.mutate({ wants, rehearse: true })} />}
      {put.error && <Refused error={put.error} />}
      {batch.totals && !editing && (
        <>
          {!batch.tally && <p className="quiet text-pre">{batch.wants.template ? `Template ${batch.wants.template}` : batch.wants.text} <button className="plain ms-2" onClick={() => setEdit(true)}>Change list or text</button><a className="ms-3" href="#launch">On to the launch</a></p>}
          <Rehearsal batch={batch} totals={batch.totals} />
        </>
      )}
      {batch.state === "rehearsed" && !editing && (batch.totals?.goes ?? 0) > 0 && <Go batch={batch} launched={changed} />}
    </div>
  );
}
