import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate } from "react-router";
import { api, got, type Batch } from "../../api/client";
import { called, uploadRows } from "../../api/upload";
import { amount } from "../../parts/amount";
import { Drop } from "../../parts/Drop";
import { More } from "../../parts/More";
import { Export } from "../../parts/Export";
import { Refused } from "../../parts/Refused";
import { when } from "../../parts/time";

/** How a batch stands, in a few words. */
export function standing(b: Batch) {
  const left = b.totals ? b.totals.rows - b.totals.goes : 0;
  switch (b.state) {
    case "open":
      return `${amount(b.rows)} rows, not rehearsed`;
    case "checking":
      return `rehearsing, ${amount(b.checked)} of ${amount(b.rows)}`;
    case "rehearsed":
      return `${amount(b.totals?.goes ?? 0)} to send, ${amount(left)} left out`;
    default:
      return `${amount(b.tally?.states["delivered"] ?? 0)} of ${amount(b.tally?.total ?? 0)} delivered`;
  }
}

/** Where a batch begins: with a sheet, or with a list that is kept. */
function Begin() {
  const queries = useQueryClient();
  const go = useNavigate();
  const [done, setDone] = useState(0);
  const [pasted, setPasted] = useState("");
  // An upload that broke off goes on in the batch that it began.
  const begun = useRef<{ file: string; id: string }>(undefined);
  const upload = useMutation({
    mutationFn: async (file: File) => {
      const same = `${file.name} ${file.size} ${file.lastModified}`;
      if (begun.current?.file !== same) {
        const made = await got(api.POST("/v1/batches", { body: { name: called(file) } }));
        begun.current = { file: same, id: made.id };
      }
      const { id } = begun.current;
      await uploadRows(id, file, setDone);
      return id;
    },
    onSuccess: (id) => {
      void queries.invalidateQueries({ queryKey: ["batches"] });
      void go(`/batches/${id}`);
    },
  });
  return (
    <>
      <Drop choose="Choose a list" label="A list of recipients" take={(file) => upload.mutate(file)}
        done={upload.isPending ? done : undefined}
        words="or drop it here: CSV, XLSX, JSON Lines, or numbers one a line. Nothing is sent yet." />
      <details className="narrow">
        <summary>Paste one</summary>
        <Form onSubmit={(e) => { e.preventDefault(); upload.mutate(new File([pasted], "pasted.txt", { lastModified: 0 })); }}>
          <Form.Control as="textarea" id="pasted" rows={6} className="mono my-2" value={pasted} aria-label="A list of recipients, pasted"
            placeholder={"+447700900123\n+447700900144"} onChange={(e) => setPasted(e.target.value)} />
          <Button type="submit" disabled={!pasted.trim() || upload.isPending}>Take this list</Button>
        </Form>
      </details>
      <p className="quiet"><Link to="/recipients">Lists that are kept</Link> can be written to again and again.</p>
      {upload.error && <Refused error={upload.error} />}
    </>
  );
}

/** One text to many: all batches, and the way to a new one. */
export function Batches() {
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["batches", "all"],
    queryFn: ({ pageParam }) => got(api.GET("/v1/batches", { params: { query: { cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 3000,
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const [beside, setBeside] = useState<string[]>([]);
  const choose = (id: string, on: boolean) => setBeside((b) => (on ? [...b.slice(-1), id] : b.filter((x) => x !== id)));
  return (
    <div className="page">
      <h1>Batches</h1>
      <p className="quiet">
        One text to many: a list is rehearsed, tried on yourself, launched, and comes back with what became of each row.
      </p>
      <Begin />
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && <p className="empty">There are no batches yet. The first begins with a list.</p>}
      {items.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto">
            <thead>
              <tr><th /><th>Name</th><th>State</th><th>How it stands</th><th className="text-end">Rows</th><th>Made</th><th>By</th></tr>
            </thead>
            <tbody>
              {items.map((b) => (
                <tr key={b.id}>
                  <td>
                    <input type="checkbox" className="form-check-input" aria-label={`Put ${b.wants.name || "this batch"} beside another`}
                      checked={beside.includes(b.id)} onChange={(e) => choose(b.id, e.target.checked)} />
                  </td>
                  <td><Link to={`/batches/${b.id}`}>{b.wants.name || "without a name"}</Link></td>
                  <td className={b.state === "held" || b.state === "paused" ? "look" : ""}>{b.state}</td>
                  <td>{standing(b)}</td>
                  <td className="text-end">{amount(b.rows)}</td>
                  <td className="text-nowrap">{when(b.created_at)}</td>
                  <td>{b.by}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {items.length > 1 && (
        <p>
          {beside.length === 2 ? <Link to={`/batches/compare?of=${beside.join("&of=")}`}>Put the two side by side</Link>
            : <span className="quiet">Choose two to put them side by side.</span>}
        </p>
      )}
      {items.length > 0 && <Export list="batches" />}
      {hasNextPage && <More busy={isFetching} onClick={() => void fetchNextPage()}>Earlier ones</More>}
    </div>
  );
}
