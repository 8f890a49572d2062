import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, type Gateway, type Trial } from "../api/client";
import { Health, left, why } from "../parts/Health";
import { Fault, Refused } from "../parts/Refused";
import { Secrets } from "../parts/Secrets";
import { TrialResult } from "../parts/TrialResult";
import { lasting, spanWords, when } from "../parts/time";

function Change({ g, close }: { g: Gateway; close: () => void }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ address: g.address, per_second: String(g.per_second), per_minute: String(g.per_minute || ""), per_day: String(g.per_day || ""), in_flight: String(g.in_flight),
    senders: g.senders.join(", "), low_balance: g.low_balance, currency: g.currency, statement_every: g.statement_every });
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const save = useMutation({
    mutationFn: () => got(api.PATCH("/v1/gateways/{name}", { params: { path: { name: g.name } }, body: {
      address: form.address, per_second: Number(form.per_second), per_minute: Number(form.per_minute) || 0, per_day: Number(form.per_day) || 0, in_flight: Number(form.in_flight),
      senders: form.senders.split(",").map((s) => s.trim()).filter(Boolean), low_balance: form.low_balance, currency: form.currency,
      ...(g.can_fetch_statement ? { statement_every: form.statement_every } : {}),
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
        {g.can_fetch_statement && field("statement_every", "Fetch its statement every, such as 24h")}
      </div>
      {field("senders", "Senders leased from it, commas between")}
      {save.error && <Refused error={save.error} />}
      <Button type="submit" disabled={save.isPending}>Save</Button>
      <Button variant="link" onClick={close}>Leave it as it was</Button>
    </Form>
  );
}

/** How its clock goes, as far as its receipts tell. */
function clockWords({ ahead, receipts }: Gateway["clock"]) {
  if (ahead === null) return <span className="quiet">not known yet: {receipts} receipts of the last day say when</span>;
  const wrong = ahead > 0 ? "ahead of ours" : "behind ours, or it holds receipts back";
  const off = Math.abs(ahead) < 2 ? "as ours" : `${lasting(Math.abs(ahead) * 1000)} ${wrong}`;
  return <>{off} <span className="quiet">by {receipts} receipts of the last day</span></>;
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
  const kinds = Object.entries(g.ask_after_kinds).map(([kind, span]) => `, ${kind} after ${spanWords(span)}`).join("");
  const known: [string, React.ReactNode][] = [
    ["Balance", g.health.balance ? <><span className="mono">{left(g.health.balance)}</span> <span className="quiet">at {when(g.health.balance.at)}</span></> : <span className="quiet">{g.can_tell_balance ? "not known" : "it cannot be asked"}</span>],
    ["Address", <span className="mono">{g.address}</span>],
    ["Dialect", <>{g.dialect} <span className="quiet">{g.about}</span></>],
    ["Secrets", <><span className="mono">{g.secrets.join(", ") || "none"}</span> <span className="quiet">kept encrypted, never shown</span></>],
    ["Limits", `${limits}; ${g.in_flight} requests at a time, ${g.recipients} ${g.recipients === 1 ? "message" : "messages"} a request`],
    ["Our reference", { honoured: "the same one twice is one message: what is in doubt may go again", carried: "it comes back in receipts", none: "there is no place for it" }[g.reference]],
    ["When silent", `asked about after ${spanWords(g.ask_after)}${kinds}, given up after ${spanWords(g.give_up_after)}`],
  ];
  known.push(["Clock", clockWords(g.clock)]);
  if (g.can_fetch_statement) {
    known.push(["Statement", g.statement_every
      ? <>fetched every {spanWords(g.statement_every)} <Link to="/statements">How far</Link></>
      : <span className="quiet">it can be fetched; no schedule is set</span>]);
  }
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
        <Link to={`/messages?gateway=${g.name}`}>Its messages</Link> · <Link to={`/strays?gateway=${g.name}`}>Its strays</Link>{" "}
        · <Link to="/prices">Its prices</Link>
      </p>
      {[pause.error, resume.error, remove.error, test.error].map((e, i) => e && <Refused key={i} error={e} />)}
      {!changing && (
        <p>
          <Button disabled={test.isPending} onClick={() => { setTrial(undefined); test.mutate(); }}>{test.isPending ? "Testing …" : "Test its credentials"}</Button>{" "}
          {g.health.state === "paused"
            ? <Button variant="outline-primary" disabled={resume.isPending} onClick={() => resume.mutate()}>Resume</Button>
            : <Button variant="outline-primary" disabled={pause.isPending} onClick={() => pause.mutate()}>Pause</Button>}{" "}
          <Button variant="outline-primary" onClick={() => setChanging(true)}>Change</Button>{" "}
          <Button variant="link" className="text-danger" disabled={remove.isPending} onClick={() => { if (confirm(`Take ${g.name} out of use? Late receipts still find what it carried.`)) remove.mutate(); }}>Take it out of use</Button>
        </p>
      )}
      {changing && <Change g={g} close={() => setChanging(false)} />}
      {trial && <TrialResult trial={trial} />}
    </div>
  );
}
