import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import Button from "react-bootstrap/Button";
import { Link, useParams } from "react-router";
import { api, got } from "../api/client";
import { Decide } from "../parts/Decide";
import { Ledger } from "../parts/Ledger";
import { Refused } from "../parts/Refused";
import { Strips } from "../parts/Strips";
import { StateBadge } from "../parts/StateBadge";
import { when } from "../parts/time";

export function MessagePage() {
  const { id = "" } = useParams();
  const { data: m, error } = useQuery({
    queryKey: ["messages", "one", id],
    queryFn: () => got(api.GET("/v1/messages/{id}", { params: { path: { id }, query: { raw: true } } })),
  });
  const queries = useQueryClient();
  const cancel = useMutation({
    mutationFn: () => got(api.POST("/v1/messages/{id}/cancel", { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["messages"] }),
  });
  const search = (by: string, what: string) => `/messages?span=all&${by}=${encodeURIComponent(what)}`;
  if (error && !m) return <div className="page"><Refused error={error} /><Link to="/messages">All messages</Link></div>;
  if (!m) return <div className="page" />;
  return (
    <div className="page">
      <h1>To <Link className="mono fs-5" to={search("q", m.to)}>{m.to}</Link>: <StateBadge state={m.state} m={m} /></h1>
      {m.advice && <p>{m.advice}</p>}
      {cancel.error && <Refused error={cancel.error} />}
      {(m.state === "queued" || m.state === "held") && (
        <p>It waits to be sent. <Button size="sm" variant="outline-primary" className="ms-2" disabled={cancel.isPending} onClick={() => cancel.mutate()}>Withdraw it</Button></p>
      )}
      <Decide m={m} />
      <div className="mt-3"><Strips parts={m.parts ?? []} room={m.room ?? 160} /></div>
      {m.kind === "otp" && <p className="quiet small">What a passcode says is sealed until it is handed over, and shown nowhere.</p>}
      <dl className="facts">
        <dt>From</dt><dd>{m.sender}</dd>
        <dt>Kind</dt><dd>{m.kind}</dd>
        <dt>Weight</dt><dd>{m.segments === 1 ? "1 segment" : `${m.segments} segments`}, {m.units} units of {m.encoding}</dd>
        {m.given && <><dt>As it was given</dt><dd>{m.given}</dd></>}
        {m.template && <><dt>Template</dt><dd><Link to={`/templates/${m.template}`}>{m.template}</Link></dd></>}
        <dt>Price</dt><dd>{m.price ? `${m.price.amount} ${m.price.currency}` : <span className="quiet">unknown</span>}</dd>
        {m.charged && <><dt>Charged</dt><dd>{m.charged.amount} {m.charged.currency}, as the gateway told</dd></>}
        {m.batch && <><dt>Batch</dt><dd><Link to={`/batches/${m.batch}`}>row {m.row}</Link></dd></>}
        {m.held_until && <><dt>Held until</dt><dd>{when(m.held_until)}</dd></>}
        {m.reference && <><dt>Your reference</dt><dd><Link to={search("q", m.reference)}>{m.reference}</Link></dd></>}
        {Object.keys(m.labels).length > 0 && (
          <>
            <dt>Labels</dt>
            <dd>
              {Object.entries(m.labels).map(([name, value]) => (
                <Link key={name} className="me-3" to={search("label", `${name}=${value}`)}>{name}={value}</Link>
              ))}
            </dd>
          </>
        )}
        <dt>Gateway</dt><dd><Link to={`/gateways/${m.gateway}`}>{m.gateway}</Link> <span className="mono">{m.gateway_ref}</span></dd>
        {m.route && <><dt>Route</dt><dd>{m.route}</dd></>}
        <dt>Created</dt><dd>{when(m.created_at)}{m.settled_at && `, settled ${when(m.settled_at)}`}</dd>
        <dt>Id</dt><dd className="mono">{m.id}</dd>
      </dl>
      <h2>How this is known</h2>
      <Ledger message={m} />
      {(m.statements ?? []).map((l) => (
        <p key={l.statement + l.n} className="quiet mt-2">
          <Link to={`/statements/${l.statement}?heap=${l.heap}`}>Line {l.n} of a statement</Link>
          {l.state && ` says ${l.state}`}
          {l.segments > 0 && `, ${l.segments === 1 ? "1 segment" : `${l.segments} segments`}`}
          {l.charge && `, charged ${l.charge.amount} ${l.charge.currency}`}
          {l.how === "number" && ", matched by number and time"}.
        </p>
      ))}
    </div>
  );
}
