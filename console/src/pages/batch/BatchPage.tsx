import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Batch, type BatchWants } from "../../api/client";
import { amount } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { TallyBar } from "../../parts/TallyBar";
import { Go } from "./Go";
import { List } from "./List";
import { Rehearsal } from "./Rehearsal";
import { Rows } from "./Rows";
import { Text } from "./Text";
import { Watch } from "./Watch";

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
  const how = (i: number) => (i < at ? "past" : i === at ? "here" : "");
  return (
    <ol className="steps" aria-label="Steps">
      {steps.map((s, i) => <li key={s} className={how(i)} aria-current={i === at ? "step" : undefined}>{s}</li>)}
    </ol>
  );
}

/** Whether there is anything to be seen that changes by itself. */
const moves = (b?: Batch) => Boolean(b && !b.finished_at && b.state !== "open" && b.state !== "rehearsed");

/** One batch, from its list to its result; it can be left and taken up again at any step. */
export function BatchPage() {
  const id = useParams().id!;
  const queries = useQueryClient();
  const [search] = useSearchParams();
  const [edit, setEdit] = useState(false);
  const path = { id };
  const { data: batch, error } = useQuery({
    queryKey: ["batches", id, "one"],
    queryFn: () => got(api.GET("/v1/batches/{id}", { params: { path } })),
    refetchInterval: (q) => (moves(q.state.data) ? 1000 : false),
  });
  const changed = () => void queries.invalidateQueries({ queryKey: ["batches", id, "one"] });
  const put = useMutation({
    mutationFn: async ({ wants, rehearse }: { wants: BatchWants; rehearse: boolean }) => {
      await got(api.PUT("/v1/batches/{id}", { params: { path }, body: wants }));
      if (rehearse) await got(api.POST("/v1/batches/{id}/rehearse", { params: { path } }));
    },
    onSuccess: (_, { rehearse }) => { if (rehearse) setEdit(false); },
    onSettled: changed,
  });
  if (error && !batch) return <div className="page"><p><Link to="/batches">Batches</Link></p><Refused error={error} /></div>;
  if (!batch) return null;
  const editing = batch.state === "open" || (edit && batch.state === "rehearsed");
  const rows = (state?: string) => `/batches/${batch.id}?${state ? `state=${state}` : "rows=all"}#rows`;
  const correct = (columns: Record<string, string>) => put.mutate({ wants: { ...(batch.wants as BatchWants), columns }, rehearse: false });
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
      {editing && <List batch={batch} change={correct} />}
      {editing && <Text batch={batch} pending={put.isPending} save={(wants) => put.mutate({ wants, rehearse: true })} />}
      {put.error && <Refused error={put.error} />}
      {batch.totals && !editing && !batch.tally && (
        <p className="quiet">
          {batch.wants.template ? `Template ${batch.wants.template}` : batch.wants.text}
          <button className="plain ms-2" onClick={() => setEdit(true)}>Change list or text</button>
          <a className="ms-3" href="#launch">On to the launch</a>
        </p>
      )}
      {batch.totals && !editing && <Rehearsal batch={batch} totals={batch.totals} corrected={changed} />}
      {batch.state === "rehearsed" && !editing && (batch.totals?.goes ?? 0) > 0 && <Go batch={batch} launched={changed} />}
    </div>
  );
}
