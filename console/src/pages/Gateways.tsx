import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate } from "react-router";
import { api, got, type Gateway } from "../api/client";
import { Flaws } from "../parts/Flaws";
import { Health, left, why } from "../parts/Health";
import { ImportSetup } from "../parts/ImportSetup";
import { Fault, Refused } from "../parts/Refused";
import { Routes } from "../parts/Routes";
import { Secrets } from "../parts/Secrets";
import { words } from "../parts/words";

/** All is well, or what wants a look, in one sentence. */
function summary(all: Gateway[]) {
  const look = all.filter((g) => g.health.state !== "working" || g.health.warnings.length > 0);
  if (look.length === 0) return all.length === 1 ? "The gateway works." : `All ${all.length} gateways work.`;
  return `${all.length - look.length} of ${all.length} gateways work; ${look.map((g) => g.name).join(", ")} ${look.length === 1 ? "wants" : "want"} a look.`;
}

function List({ all }: { all: Gateway[] }) {
  return (
    <div className="table-responsive">
      <Table>
        <thead><tr><th>Gateway</th><th>Fares</th><th className="text-end d-none d-md-table-cell">Balance</th><th className="text-end d-none d-md-table-cell">A second</th><th className="text-end d-none d-md-table-cell">A request</th><th className="d-none d-md-table-cell">About, or why</th></tr></thead>
        <tbody>
          {all.map((g) => (
            <tr key={g.id}>
              <td className="text-nowrap"><Link to={`/gateways/${g.name}`}><b>{g.name}</b></Link>{g.dialect !== g.name && <div className="quiet">speaks {g.dialect}</div>}</td>
              <td className="text-nowrap"><Health health={g.health} />{g.health.balance && <div className="quiet mono d-md-none">{left(g.health.balance)}</div>}</td>
              <td className="mono text-end text-nowrap d-none d-md-table-cell">{g.health.balance ? left(g.health.balance) : <span className="quiet">not known</span>}</td>
              <td className="mono text-end d-none d-md-table-cell">{g.per_second}</td>
              <td className="mono text-end d-none d-md-table-cell">{g.recipients}</td>
              <td className={`d-none d-md-table-cell ${g.health.state === "working" && g.health.warnings.length === 0 ? "quiet" : ""}`}>{why(g.health) || g.about}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

function Add({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [form, setForm] = useState({ dialect: "", source: "", name: "", address: "", senders: "", low_balance: "", currency: "" });
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const shipped = useQuery({ queryKey: ["dialects"], queryFn: () => got(api.GET("/v1/dialects")), staleTime: Infinity });
  const own = useQuery({ queryKey: ["dialect check", form.source], enabled: form.source !== "", queryFn: () => got(api.POST("/v1/dialects/check", { body: { source: form.source } })) });
  const names = form.source ? (own.data?.secrets ?? []) : (shipped.data?.items.find((d) => d.name === form.dialect)?.secrets ?? []);
  const add = useMutation({
    mutationFn: () => got(api.POST("/v1/gateways", { body: {
      ...(form.source ? { source: form.source } : { dialect: form.dialect }), name: form.name, address: form.address, secrets,
      senders: words(form.senders), low_balance: form.low_balance, currency: form.currency } })),
    onSuccess: (g) => { void queries.invalidateQueries({ queryKey: ["gateways"] }); navigate(`/gateways/${g.name}`); },
  });
  const fill = (changes: Partial<typeof form>) => { add.reset(); setForm({ ...form, ...changes }); };
  return (
    <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
      <h2>Add a gateway</h2>
      <div className="field">
        <Form.Label htmlFor="dialect">Dialect</Form.Label>
        <Form.Select id="dialect" value={form.source ? "own" : form.dialect} onChange={(e) => fill({ dialect: e.target.value, source: "" })}>
          <option value="">Choose how it is spoken to</option>
          {shipped.data?.items.map((d) => <option key={d.name} value={d.name}>{d.name}: {d.about}</option>)}
          {form.source && <option value="own">a file of your own</option>}
        </Form.Select>
        <Form.Control type="file" className="mt-2" aria-label="A dialect file of your own" accept=".yaml,.yml" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) fill({ source: await file.text() }); }} />
        <div className="quiet">One that ships, or a file of your own. <Link to="/dialects">Write and try one</Link></div>
        <div className="lines"><Fault error={add.error} field="dialect" /></div>
      </div>
      <div className="field">
        <Form.Label htmlFor="address">Address</Form.Label>
        <Form.Control id="address" className="mono" placeholder="https://sms.example.net/api" value={form.address} onChange={(e) => fill({ address: e.target.value })} />
        <Fault error={add.error} field="address" />
      </div>
      <Secrets names={names} given={secrets} set={(s) => { add.reset(); setSecrets(s); }} error={add.error} />
      <div className="field">
        <Form.Label htmlFor="name">Name here</Form.Label>
        <Form.Control id="name" placeholder="the dialect's" value={form.name} onChange={(e) => fill({ name: e.target.value })} />
        <Fault error={add.error} field="name" />
      </div>
      <div className="field">
        <Form.Label htmlFor="leased">Senders leased from it</Form.Label>
        <Form.Control id="leased" placeholder="only where the gateway leases them" value={form.senders} onChange={(e) => fill({ senders: e.target.value })} />
        <Fault error={add.error} field="senders" />
      </div>
      <div className="row2">
        <div className="field">
          <Form.Label htmlFor="low">Warn below a balance of</Form.Label>
          <Form.Control id="low" inputMode="decimal" placeholder="never" value={form.low_balance} onChange={(e) => fill({ low_balance: e.target.value })} />
          <Fault error={add.error} field="low_balance" />
        </div>
        <div className="field">
          <Form.Label htmlFor="currency">Currency of its account</Form.Label>
          <Form.Control id="currency" placeholder="EUR" value={form.currency} onChange={(e) => fill({ currency: e.target.value })} />
          <Fault error={add.error} field="currency" />
        </div>
      </div>
      {add.error && <Refused error={add.error} />}
      <Button type="submit" disabled={add.isPending}>Add it</Button>
      <Button variant="link" onClick={close}>Not now</Button>
    </Form>
  );
}

export function Gateways() {
  const [adding, setAdding] = useState(false);
  const [importing, setImporting] = useState(false);
  const { data, error } = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")), refetchInterval: 5000 });
  const save = async () => {
    const file = await got(api.GET("/v1/setup"));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([file.source], { type: "application/yaml" }));
    link.download = "setup.yaml";
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <div className="page">
      <h1>Gateways</h1>
      <Flaws what="gateway" />
      {error && !data && <Refused error={error} />}
      {data && data.items.length > 0 && <p>{summary(data.items)}</p>}
      {data && data.items.length > 0 && <List all={data.items} />}
      {data?.items.length === 0 && !adding && <p className="empty">There is no gateway yet. Add the one whose account you have: how it is spoken to, where it is, and its credentials.</p>}
      {!adding && <Button onClick={() => setAdding(true)}>Add a gateway</Button>}
      {!adding && <Link to="/dialects" className="btn btn-link">Dialects</Link>}
      {!adding && <Button variant="link" onClick={save}>Export the set-up</Button>}
      {!adding && <Button variant="link" onClick={() => setImporting(!importing)}>Import one</Button>}
      {importing && !adding && <ImportSetup close={() => setImporting(false)} />}
      {adding && <Add close={() => setAdding(false)} />}
      {data && !adding && <Routes gateways={data.items} />}
    </div>
  );
}
