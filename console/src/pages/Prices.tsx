import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type PriceList } from "../api/client";
import { Fault, Refused } from "../parts/Refused";
import { when } from "../parts/time";

function List({ list }: { list: PriceList }) {
  // Points stand under each other.
  const places = (amount: string) => (amount.split(".")[1] ?? "").length;
  const most = Math.max(0, ...list.prices.map((p) => places(p.price)));
  return (
    <div className="table-responsive">
      <Table className="w-auto dense">
        <thead><tr><th>Country</th><th>Numbers</th><th>Kind</th><th className="text-end">Price</th><th /><th>For a</th><th>From</th></tr></thead>
        <tbody>
          {list.prices.map((p) => (
            <tr key={p.country + p.prefix + p.kind + p.from}>
              <td className="mono">{p.country === "*" ? "all others" : p.country}</td>
              <td>{p.prefix ? <span className="mono">+{p.prefix}…</span> : <span className="quiet">all</span>}</td>
              <td>{p.kind || <span className="quiet">all</span>}</td>
              <td className="mono text-end">{p.price + "\u2007".repeat(most - places(p.price))}</td>
              <td>{p.currency}</td>
              <td>{p.per}</td>
              <td className="text-nowrap">{p.from ? p.from.slice(0, 10) : <span className="quiet">always</span>}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

function Gateway({ name }: { name: string }) {
  const [source, setSource] = useState<string>();
  const queries = useQueryClient();
  const { data, error } = useQuery({ queryKey: ["prices", name], queryFn: () => got(api.GET("/v1/gateways/{name}/prices", { params: { path: { name } } })) });
  const put = useMutation({
    mutationFn: (dry_run: boolean) => got(api.PUT("/v1/gateways/{name}/prices", { params: { path: { name }, query: { dry_run } }, body: { source: source ?? "" } })),
    onSuccess: (_, dry) => { if (!dry) { setSource(undefined); void queries.invalidateQueries({ queryKey: ["prices"] }); } },
  });
  return (
    <section className="mb-4">
      <h2>{name} {data?.changed_at && <span className="quiet fw-normal">changed {when(data.changed_at)} by {data.changed_by}</span>}</h2>
      {error && !data && <Refused error={error} />}
      {data && data.prices.length === 0 && source === undefined && <p className="quiet">It has no price list: what it charges is shown as unknown, never as zero.</p>}
      {source === undefined && data && (
        <>
          {data.prices.length > 0 && <List list={data} />}
          <Button variant="outline-primary" onClick={() => { put.reset(); setSource(data.prices.length ? data.source : "country,prefix,kind,per,price,currency,from\n"); }}>Change</Button>
        </>
      )}
      {source !== undefined && (
        <Form className="narrow" onSubmit={(e) => { e.preventDefault(); put.mutate(false); }}>
          <div className="field">
            <Form.Label htmlFor={`csv-${name}`}>The list as CSV; * is all other countries</Form.Label>
            <Form.Control id={`csv-${name}`} as="textarea" className="mono" rows={14} value={source} onChange={(e) => { setSource(e.target.value); put.reset(); }} />
            <Form.Control type="file" className="mt-2" aria-label="Choose a file" accept=".csv" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) setSource(await file.text()); }} />
            <div className="lines"><Fault error={put.error} field="source" /></div>
          </div>
          {put.data && <p>{put.data.prices.length} prices are well-formed. Nothing was changed yet.</p>}
          <Button variant="outline-primary" className="me-2" disabled={put.isPending} onClick={() => put.mutate(true)}>Check it</Button>
          <Button type="submit" disabled={put.isPending}>Put it in the place of the last one</Button>
          <Button variant="link" onClick={() => setSource(undefined)}>Leave it as it was</Button>
        </Form>
      )}
    </section>
  );
}

export function Prices() {
  const { data, error } = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")) });
  return (
    <div className="page">
      <h1>Prices</h1>
      <p className="quiet">
        What gateways charge. The longest beginning of a number wins, then its country; a price of the message's
        kind goes before one of all kinds. <Link to="/money">What messages cost</Link>
      </p>
      {error && !data && <Refused error={error} />}
      {data?.items.length === 0 && <p className="empty">There is no gateway yet. Add one with <span className="mono">pigeon gateway add</span>, then its price list here.</p>}
      {data?.items.map((g) => <Gateway key={g.id} name={g.name} />)}
    </div>
  );
}
