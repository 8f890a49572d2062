import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, type Gateway, type Route, type Trial } from "../api/client";
import { Health, left, why } from "../parts/Health";
import { Fault, Refused } from "../parts/Refused";
import { TrialResult } from "../parts/TrialResult";
import { Undo } from "../parts/Undo";
import { when } from "../parts/time";

const words = (s: string) => s.split(/[\s,]+/).filter(Boolean);

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

function Secrets({ names, given, set, error }: { names: string[]; given: Record<string, string>; set: (s: Record<string, string>) => void; error: unknown }) {
  return names.map((name) => (
    <div className="field" key={name}>
      <Form.Label htmlFor={`secret-${name}`}>{name}</Form.Label>
      <Form.Control id={`secret-${name}`} type="password" className="mono" autoComplete="new-password" value={given[name] ?? ""} onChange={(e) => set({ ...given, [name]: e.target.value })} />
      <Fault error={error} field={`secrets.${name}`} />
    </div>
  ));
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

const all = (list: string[], quiet = "all") => (list.length ? list.join(", ") : <span className="quiet">{quiet}</span>);

function through(r: Route) {
  const weighted = r.gateways.some((g) => g.weight);
  return r.gateways.map((g, i) => <span key={g.gateway}>{i > 0 && <span className="quiet">{weighted ? " or " : ", then "}</span>}{g.gateway}{g.weight ? ` (${g.weight})` : ""}</span>);
}

const blank = { name: "", countries: "", prefixes: "", kinds: [] as string[], senders: "", gateways: "" };

/** Which messages go through which gateways, in the order in which they are tried. */
function Routes({ gateways }: { gateways: Gateway[] }) {
  const queries = useQueryClient();
  const [form, setForm] = useState<typeof blank>();
  const [editing, setEditing] = useState("");
  const [before, setBefore] = useState<{ routes: Route[]; what: string }>();
  const { data, error } = useQuery({ queryKey: ["routes"], queryFn: () => got(api.GET("/v1/routes")) });
  const put = useMutation({
    mutationFn: (routes: Route[]) => got(api.PUT("/v1/routes", { body: { routes } })),
    onSuccess: () => { setForm(undefined); void queries.invalidateQueries({ queryKey: ["routes"] }); },
  });
  const routes = data?.routes ?? [];
  const move = (i: number, to: number) => { const next = [...routes]; const [r] = next.splice(i, 1); next.splice(to, 0, r!); put.mutate(next); };
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
      {before && <Undo what={before.what} undo={() => { put.mutate(before.routes); setBefore(undefined); }} />}
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
                    <button className="plain" disabled={put.isPending} onClick={() => { setBefore({ routes, what: `Route ${r.name} is gone.` }); put.mutate(routes.filter((o) => o !== r)); }}>Remove</button>
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

/** Takes a set-up in: checked first, then all of it or nothing. */
function Import({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const [source, setSource] = useState("");
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const names = [...new Set([...source.matchAll(/\$\{([A-Z0-9_]+)\}/g)].map((m) => m[1]!))];
  const put = useMutation({
    mutationFn: (dry_run: boolean) => got(api.PUT("/v1/setup", { params: { query: { dry_run } }, body: { source, secrets: Object.fromEntries(Object.entries(secrets).filter(([, v]) => v)) } })),
    onSuccess: (_, dry) => { if (!dry) { void queries.invalidateQueries(); } },
  });
  const parts: [string, string[]][] = put.data ? [["new", put.data.new], ["changed", put.data.changed], ["as it was", put.data.same]] : [];
  return (
    <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); put.mutate(false); }}>
      <h2>Take a set-up in</h2>
      <p className="quiet">Gateways, routes, senders, rules and templates from a file as export writes it. All of it or nothing; what it does not name stays.</p>
      <Form.Control type="file" className="field" aria-label="The file" accept=".yaml,.yml" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) { put.reset(); setSource(await file.text()); } }} />
      {names.length > 0 && <p className="quiet">Secrets are not in it. Those of gateways that are here already may be left empty.</p>}
      {names.map((name) => (
        <div className="field" key={name}>
          <Form.Label htmlFor={name} className="mono">{name}</Form.Label>
          <Form.Control id={name} type="password" autoComplete="new-password" className="mono" value={secrets[name] ?? ""} onChange={(e) => { put.reset(); setSecrets({ ...secrets, [name]: e.target.value }); }} />
        </div>
      ))}
      {put.error && <Refused error={put.error} />}
      {put.data && (
        <div role="status">
          <p>{put.variables ? "Every check was made, and nothing was changed yet." : "It is taken in."}</p>
          {parts.map(([word, list]) => list.length > 0 && <p key={word} className="mb-1"><span className="quiet">{word}:</span> {list.join(", ")}</p>)}
        </div>
      )}
      <Button variant="outline-primary" className="me-2" disabled={!source || put.isPending} onClick={() => put.mutate(true)}>Check it</Button>
      <Button type="submit" disabled={!source || put.isPending}>Take it in</Button>
      <Button variant="link" onClick={close}>Done</Button>
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
      {error && !data && <Refused error={error} />}
      {data && data.items.length > 0 && <p>{summary(data.items)}</p>}
      {data && data.items.length > 0 && <List all={data.items} />}
      {data?.items.length === 0 && !adding && <p className="empty">There is no gateway yet. Add the one whose account you have: how it is spoken to, where it is, and its credentials.</p>}
      {!adding && <Button onClick={() => setAdding(true)}>Add a gateway</Button>}
      {!adding && <Link to="/dialects" className="btn btn-link">Dialects</Link>}
      {!adding && <Button variant="link" onClick={save}>Export the set-up</Button>}
      {!adding && <Button variant="link" onClick={() => setImporting(!importing)}>Import one</Button>}
      {importing && !adding && <Import close={() => setImporting(false)} />}
      {adding && <Add close={() => setAdding(false)} />}
      {data && !adding && <Routes gateways={data.items} />}
    </div>
  );
}

function Change({ g, close }: { g: Gateway; close: () => void }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ address: g.address, per_second: String(g.per_second), per_minute: String(g.per_minute || ""), per_day: String(g.per_day || ""), in_flight: String(g.in_flight),
    senders: g.senders.join(", "), low_balance: g.low_balance, currency: g.currency });
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const save = useMutation({
    mutationFn: () => got(api.PATCH("/v1/gateways/{name}", { params: { path: { name: g.name } }, body: {
      address: form.address, per_second: Number(form.per_second), per_minute: Number(form.per_minute) || 0, per_day: Number(form.per_day) || 0, in_flight: Number(form.in_flight),
      senders: form.senders.split(",").map((s) => s.trim()).filter(Boolean), low_balance: form.low_balance, currency: form.currency,
      secrets: Object.fromEntries(Object.entries(secrets).filter(([, v]) => v)) } })),
    onSuccess: () => { void queries.invalidateQueries({ queryKey: ["gateways"] }); close(); },
  });
  const field = (name: keyof typeof form, label: string) => (
    <div className="field">
      <Form.Label htmlFor={name}>{label}</Form.Label>
      <Form.Control id={name} value={form[name]} onChange={(e) => { save.reset(); setForm({ ...form, [name]: e.target.value }); }} />
      <Fault error={save.error} field={name} />
    </div>
  );
  return (
    <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
      <h2>Change {g.name}</h2>
      {field("address", "Address")}
      <p className="quiet">Secrets are never shown. What is left empty stays as it is.</p>
      <Secrets names={g.secrets} given={secrets} set={setSecrets} error={save.error} />
      <div className="row2">
        {field("per_second", "Messages a second")}
        {field("in_flight", "Requests at a time")}
        {field("per_minute", "Messages a minute, if limited")}
        {field("per_day", "Messages in 24 hours, if limited")}
        {field("low_balance", "Warn below a balance of")}
        {field("currency", "Currency of its account")}
      </div>
      {field("senders", "Senders leased from it, commas between")}
      {save.error && <Refused error={save.error} />}
      <Button type="submit" disabled={save.isPending}>Save</Button>
      <Button variant="link" onClick={close}>Leave it as it was</Button>
    </Form>
  );
}

export function GatewayPage() {
  const { name = "" } = useParams();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [changing, setChanging] = useState(false);
  const [trial, setTrial] = useState<Trial>();
  const path = { params: { path: { name } } };
  const { data: g, error } = useQuery({ queryKey: ["gateways", name], queryFn: () => got(api.GET("/v1/gateways/{name}", path)), refetchInterval: 3000 });
  const done = () => { void queries.invalidateQueries({ queryKey: ["gateways"] }); };
  const pause = useMutation({ mutationFn: () => got(api.POST("/v1/gateways/{name}/pause", { ...path, body: {} })), onSuccess: done });
  const resume = useMutation({ mutationFn: () => got(api.POST("/v1/gateways/{name}/resume", path)), onSuccess: done });
  const remove = useMutation({ mutationFn: () => got(api.DELETE("/v1/gateways/{name}", path)), onSuccess: () => { done(); navigate("/gateways"); } });
  const test = useMutation({ mutationFn: () => got(api.POST("/v1/gateways/{name}/test", path)), onSuccess: setTrial });
  if (error && !g) return <div className="page"><Refused error={error} /><Link to="/gateways">All gateways</Link></div>;
  if (!g) return null;
  const limits = [`${g.per_second} a second`, g.per_minute && `${g.per_minute} a minute`, g.per_day && `${g.per_day} in 24 hours`].filter(Boolean).join(", ");
  const known: [string, React.ReactNode][] = [
    ["Balance", g.health.balance ? <><span className="mono">{left(g.health.balance)}</span> <span className="quiet">at {when(g.health.balance.at)}</span></> : <span className="quiet">{g.can_tell_balance ? "not known" : "it cannot be asked"}</span>],
    ["Address", <span className="mono">{g.address}</span>],
    ["Dialect", <>{g.dialect} <span className="quiet">{g.about}</span></>],
    ["Secrets", <><span className="mono">{g.secrets.join(", ") || "none"}</span> <span className="quiet">kept encrypted, never shown</span></>],
    ["Limits", `${limits}; ${g.in_flight} requests at a time, ${g.recipients} ${g.recipients === 1 ? "message" : "messages"} a request`],
    ["Our reference", { honoured: "the same one twice is one message: what is in doubt may go again", carried: "it comes back in receipts", none: "there is no place for it" }[g.reference]],
    ["When silent", `asked about after ${g.ask_after}, given up after ${g.give_up_after}`],
  ];
  if (g.senders.length) known.push(["Leased senders", g.senders.join(", ")]);
  return (
    <div className="page">
      <p className="mb-1"><Link to="/gateways">Gateways</Link></p>
      <h1>{g.name} <span className="fw-normal"><Health health={g.health} /></span></h1>
      {why(g.health) && <p className={g.health.state === "working" ? "notice" : "notice wrong"}>{why(g.health)}</p>}
      <dl className="facts">
        {known.map(([term, what]) => <Fragment key={term}><dt>{term}</dt><dd>{what}</dd></Fragment>)}
      </dl>
      <p>
        <Link to={`/?gateway=${g.name}`}>Its messages</Link> · <Link to="/prices">Its prices</Link>
      </p>
      {[pause.error, resume.error, remove.error, test.error].map((e, i) => e && <Refused key={i} error={e} />)}
      {!changing && (
        <p>
          <Button disabled={test.isPending} onClick={() => { setTrial(undefined); test.mutate(); }}>{test.isPending ? "Testing …" : "Test its credentials"}</Button>{" "}
          {g.health.state === "paused"
            ? <Button variant="outline-primary" disabled={resume.isPending} onClick={() => resume.mutate()}>Resume</Button>
            : <Button variant="outline-primary" disabled={pause.isPending} onClick={() => pause.mutate()}>Pause</Button>}{" "}
          <Button variant="outline-primary" onClick={() => setChanging(true)}>Change</Button>{" "}
          <Button variant="link" className="text-danger" disabled={remove.isPending} onClick={() => { if (confirm(`Take ${g.name} out of use? Its secrets are forgotten.`)) remove.mutate(); }}>Take it out of use</Button>
        </p>
      )}
      {changing && <Change g={g} close={() => setChanging(false)} />}
      {trial && <TrialResult trial={trial} />}
    </div>
  );
}
