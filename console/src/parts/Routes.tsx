import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { api, got, type Gateway, type Route } from "../api/client";
import { Refused } from "./Refused";
import { Undo } from "./Undo";
import { words } from "./words";

const all = (list: string[], quiet = "all") => (list.length ? list.join(", ") : <span className="quiet">{quiet}</span>);

function through(r: Route) {
  const weighted = r.gateways.some((g) => g.weight);
  return r.gateways.map((g, i) => <span key={g.gateway}>{i > 0 && <span className="quiet">{weighted ? " or " : ", then "}</span>}{g.gateway}{g.weight ? ` (${g.weight})` : ""}</span>);
}

const blank = { name: "", countries: "", prefixes: "", kinds: [] as string[], senders: "", gateways: "" };

/** Which messages go through which gateways, in the order in which they are tried. */
export function Routes({ gateways }: { gateways: Gateway[] }) {
  const queries = useQueryClient();
  const [form, setForm] = useState<typeof blank>();
  const [editing, setEditing] = useState("");
  const [before, setBefore] = useState<{ routes: Route[]; what: string }>();
  const { data, error } = useQuery({ queryKey: ["routes"], queryFn: () => got(api.GET("/v1/routes")) });
  const put = useMutation({
    mutationFn: (routes: Route[]) => got(api.PUT("/v1/routes", { body: { items: routes, next: "" } })),
    onSuccess: () => { setForm(undefined); void queries.invalidateQueries({ queryKey: ["routes"] }); },
  });
  const routes = data?.items ?? [];
  // What is gone is said once it is gone: an undo pressed sooner could overtake the removal.
  const remove = (r: Route) => { setBefore(undefined); put.mutate(routes.filter((o) => o !== r), { onSuccess: () => setBefore({ routes, what: `Route ${r.name} is gone.` }) }); };
  const move = (i: number, to: number) => { setBefore(undefined); const next = [...routes]; const [r] = next.splice(i, 1); next.splice(to, 0, r!); put.mutate(next); };
  const save = (f: typeof blank) => {
    const made: Route = {
      name: f.name, countries: words(f.countries.toUpperCase()), prefixes: words(f.prefixes), kinds: f.kinds as Route["kinds"], senders: f.senders.split(",").map((s) => s.trim()).filter(Boolean),
      gateways: words(f.gateways).map((w) => ({ gateway: w.split("=")[0] ?? "", weight: Number(w.split("=")[1]) || 0 })),
    };
    put.mutate(editing ? routes.map((r) => (r.name === editing ? made : r)) : [...routes, made]);
  };
  const open = (r?: Route) => {
    put.reset();
    setEditing(r?.name ?? "");
    setForm(r ? { name: r.name, countries: (r.countries ?? []).join(" "), prefixes: (r.prefixes ?? []).join(" "), kinds: r.kinds ?? [], senders: (r.senders ?? []).join(", "),
      gateways: r.gateways.map((g) => (g.weight ? `${g.gateway}=${g.weight}` : g.gateway)).join(" ") } : blank);
  };
  return (
    <section className="mt-4">
      <h2>Routes</h2>
      <p className="quiet">A message takes the first route that fits it. What is known not to have been taken goes through the next gateway; what may have been taken never does. What no route fits goes through the oldest gateway that takes it.</p>
      {error && !data && <Refused error={error} />}
      {before && <Undo what={before.what} undo={() => put.mutate(before.routes, { onSuccess: () => setBefore(undefined) })} />}
      {routes.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto">
            <thead><tr><th /><th>Route</th><th>Numbers</th><th>Kinds</th><th>Senders</th><th>Goes through</th><th /></tr></thead>
            <tbody>
              {routes.map((r, i) => (
                <tr key={r.name}>
                  <td className="quiet">{i + 1}</td>
                  <td><b>{r.name}</b></td>
                  <td>{all([...(r.countries ?? []), ...(r.prefixes ?? [])])}</td>
                  <td>{all(r.kinds ?? [])}</td>
                  <td>{all(r.senders ?? [])}</td>
                  <td>{through(r)}</td>
                  <td className="text-nowrap">
                    <button className="plain" disabled={i === 0 || put.isPending} aria-label={`Try ${r.name} earlier`} onClick={() => move(i, i - 1)}>↑</button>{" "}
                    <button className="plain" disabled={i === routes.length - 1 || put.isPending} aria-label={`Try ${r.name} later`} onClick={() => move(i, i + 1)}>↓</button>{" "}
                    <button className="plain" onClick={() => open(r)}>Change</button>{" "}
                    <button className="plain" disabled={put.isPending} onClick={() => remove(r)}>Remove</button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {put.error && !form && <Refused error={put.error} />}
      {!form && gateways.length > 0 && <Button variant="outline-primary" onClick={() => open()}>Add a route</Button>}
      {form && (
        <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); setBefore(undefined); save(form); }}>
          <h2>{editing ? `Change ${editing}` : "Add a route"}</h2>
          <div className="field">
            <Form.Label htmlFor="route-name">Name</Form.Label>
            <Form.Control id="route-name" readOnly={editing !== ""} value={form.name} onChange={(e) => setForm({ ...form, name: e.target.value })} />
          </div>
          <div className="field">
            <Form.Label htmlFor="route-gateways">Gateways, the first is tried first; with weights as in {gateways[0]?.name ?? "a"}=3 each takes its share</Form.Label>
            <Form.Control id="route-gateways" list="gateway-names" value={form.gateways} onChange={(e) => setForm({ ...form, gateways: e.target.value })} />
            <div className="quiet">There are {gateways.map((g) => g.name).join(", ")}.</div>
          </div>
          <div className="row2">
            <div className="field">
              <Form.Label htmlFor="route-countries">Only these countries</Form.Label>
              <Form.Control id="route-countries" placeholder="GB IE" value={form.countries} onChange={(e) => setForm({ ...form, countries: e.target.value })} />
            </div>
            <div className="field">
              <Form.Label htmlFor="route-prefixes">Only numbers that begin</Form.Label>
              <Form.Control id="route-prefixes" placeholder="+4477" value={form.prefixes} onChange={(e) => setForm({ ...form, prefixes: e.target.value })} />
            </div>
          </div>
          <div className="field">
            <div className="form-label">Only these kinds</div>
            {["otp", "transactional", "bulk"].map((kind) => (
              <Form.Check inline key={kind} id={`route-${kind}`} label={kind} checked={form.kinds.includes(kind)} onChange={(e) => setForm({ ...form, kinds: e.target.checked ? [...form.kinds, kind] : form.kinds.filter((k) => k !== kind) })} />
            ))}
          </div>
          <div className="field">
            <Form.Label htmlFor="route-senders">Only these senders, commas between</Form.Label>
            <Form.Control id="route-senders" value={form.senders} onChange={(e) => setForm({ ...form, senders: e.target.value })} />
          </div>
          {put.error && <Refused error={put.error} />}
          <Button type="submit" disabled={put.isPending}>Save</Button>
          <Button variant="link" onClick={() => setForm(undefined)}>Leave it as it was</Button>
        </Form>
      )}
    </section>
  );
}
