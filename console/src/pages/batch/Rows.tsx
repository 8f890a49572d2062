import { useInfiniteQuery } from "@tanstack/react-query";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type Batch, type BatchRow, type State } from "../../api/client";
import { amount } from "../../parts/amount";
import { More } from "../../parts/More";
import { Refused } from "../../parts/Refused";
import { StateBadge } from "../../parts/StateBadge";
import { reasons } from "./reasons";

/** Whom a row is for, as far as that can be told. */
function To({ row: r }: { row: BatchRow }) {
  if (r.message) return <Link to={`/messages/${r.message}`}>{r.to}</Link>;
  return <>{r.to || Object.values(r.cells).filter(Boolean).slice(0, 2).join(", ")}</>;
}

/** What became of a row, or why it is left out. */
function Became({ row: r }: { row: BatchRow }) {
  if (r.left_out) return <>{r.say || reasons[r.left_out]}</>;
  if (r.state) return <><StateBadge state={r.state as State} /> {r.cause && <span className="quiet">{r.cause}</span>}</>;
  return <span className="quiet">{r.say}</span>;
}

/** Rows of a batch, chosen by why they are left out or by their state. */
export function Rows({ batch }: { batch: Batch }) {
  const [search, setSearch] = useSearchParams();
  const left = search.get("left") ?? undefined;
  const state = (search.get("state") ?? undefined) as State | undefined;
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["batches", batch.id, "rows", left, state, batch.state],
    queryFn: ({ pageParam }) => {
      const query = { left_out: left, state, cursor: pageParam || undefined };
      return got(api.GET("/v1/batches/{id}/rows", { params: { path: { id: batch.id }, query } }));
    },
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const why = left === "any" ? "" : `: ${reasons[left ?? ""] ?? left}`;
  return (
    <section className="step" id="rows">
      <h2>
        Rows {left ? `that are left out${why}` : state && `that are ${state}`}
        <button className="plain ms-2" onClick={() => setSearch({})}>close</button>
      </h2>
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
                  <td className="mono text-nowrap"><To row={r} /></td>
                  <td><Became row={r} /></td>
                  <td>{r.text}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {hasNextPage && <More busy={isFetching} onClick={() => void fetchNextPage()}>More</More>}
    </section>
  );
}
