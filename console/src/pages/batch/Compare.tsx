import { useQuery } from "@tanstack/react-query";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type Batch } from "../../api/client";
import { amount, segments, sums } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { StateBadge } from "../../parts/StateBadge";
import { states } from "../../parts/states";
import { lasting, when } from "../../parts/time";
import { reasons } from "./reasons";

const share = (n: number, of: number) => `${amount(n)} (${((100 * n) / Math.max(of, 1)).toFixed(1)}%)`;

/** How many failed for each cause. */
function causes(b: Batch) {
  const all = new Map<string, number>();
  for (const f of b.failures) if (f.cause) all.set(f.cause, (all.get(f.cause) ?? 0) + f.n);
  return all;
}

const template = (name: string) => <Link to={`/templates/${name}`}>{name}</Link>;

const took = (b: Batch) => b.launched_at && b.finished_at && lasting(Date.parse(b.finished_at) - Date.parse(b.launched_at));

/** One line of the two: what it is, and how to say it of each. */
function lines(both: Batch[]): { what: React.ReactNode; key: string; of: (b: Batch) => React.ReactNode }[] {
  const left = (b: Batch) => new Map(b.totals?.left.map((p) => [p.name, p.rows]));
  const all = <T,>(of: (b: Batch) => Iterable<T>) => [...new Set(both.flatMap((b) => [...of(b)]))];
  const went = (b: Batch) => b.tally?.total ?? 0;
  return [
    { key: "state", what: "State", of: (b) => b.state },
    { key: "text", what: "Text", of: (b) => b.wants.text || (b.wants.template && template(b.wants.template)) },
    { key: "rows", what: "Rows", of: (b) => amount(b.rows) },
    { key: "goes", what: "To send", of: (b) => b.totals && amount(b.totals.goes) },
    ...all((b) => left(b).keys()).map((r) => ({
      key: `left ${r}`, what: <span className="quiet">Left out, {reasons[r] ?? r}</span>,
      of: (b: Batch) => left(b).has(r) && <Link to={`/batches/${b.id}?left=${r}#rows`}>{amount(left(b).get(r)!)}</Link>,
    })),
    { key: "segments", what: "Segments", of: (b) => b.totals && segments(b.totals.segments) },
    { key: "estimate", what: "Estimate", of: (b) => b.totals && sums(b.totals.cost) },
    { key: "spent", what: "Spent", of: (b) => b.spent.length > 0 && sums(b.spent) },
    { key: "launched", what: "Launched", of: (b) => b.launched_at && when(b.launched_at) },
    { key: "took", what: "Took", of: took },
    ...states.filter((s) => both.some((b) => b.tally?.states[s])).map((s) => ({
      key: s, what: <StateBadge state={s} />,
      of: (b: Batch) => b.tally?.states[s] && <Link to={`/batches/${b.id}?state=${s}#rows`}>{share(b.tally.states[s], went(b))}</Link>,
    })),
    ...all((b) => causes(b).keys()).map((c) => ({
      key: `cause ${c}`, what: <span className="quiet">Cause <span className="mono">{c}</span></span>,
      of: (b: Batch) => causes(b).has(c) && share(causes(b).get(c)!, went(b)),
    })),
  ];
}

/** Two batches side by side: what they were to be, and what became of them. */
export function Compare() {
  const ids = useSearchParams()[0].getAll("of").slice(0, 2);
  const { data, error } = useQuery({
    queryKey: ["batches", "compare", ids],
    queryFn: () => Promise.all(ids.map((id) => got(api.GET("/v1/batches/{id}", { params: { path: { id } } })))),
    refetchInterval: 3000,
    enabled: ids.length === 2,
  });
  return (
    <div className="page">
      <p><Link to="/batches">Batches</Link></p>
      <h1>Side by side</h1>
      {ids.length < 2 && <p className="empty">Choose two in the list of batches.</p>}
      {error && !data && <Refused error={error} />}
      {data && (
        <div className="table-responsive">
          <Table className="compare">
            <thead>
              <tr><th />{data.map((b, i) => <th key={i}><Link to={`/batches/${b.id}`}>{b.wants.name || "without a name"}</Link></th>)}</tr>
            </thead>
            <tbody>
              {lines(data).map((l) => (
                <tr key={l.key}><td>{l.what}</td>{data.map((b, i) => <td key={i}>{l.of(b) || null}</td>)}</tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </div>
  );
}
