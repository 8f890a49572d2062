import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useParams } from "react-router";
import { api, got, type Passcode, type State } from "../api/client";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { when } from "../parts/time";

/** How a passcode stands, in words. */
const stands: Record<Passcode["state"], string> = {
  open: "waits to be typed",
  used: "was used",
  ended: "is over",
  locked: "is locked: too many wrong codes were typed",
};

/** What happened with a passcode, in the order in which it did. */
function story(p: Passcode): { at: string; what: React.ReactNode }[] {
  const all: { at: string; what: React.ReactNode }[] = [
    {
      at: p.created_at,
      what: (
        <>
          A code of {p.length} {p.of} was drawn for <span className="mono">{p.number}</span>
          {p.address && (
            <>
              , asked for from <span className="mono">{p.address}</span>
            </>
          )}
        </>
      ),
    },
  ];
  for (const t of p.texts ?? []) {
    all.push({
      at: t.created_at,
      what: (
        <>
          {t.spoken ? "It was spoken in a call" : "A text bore it"} through <Link to={`/gateways/${t.gateway}`}>{t.gateway}</Link>:{" "}
          <Link to={`/messages/${t.message}`}>
            <StateBadge state={t.state as State} />
          </Link>
          {t.cause && ` ${t.cause}`}
          {t.changed_at > t.created_at && <span className="quiet"> since {when(t.changed_at)}</span>}
        </>
      ),
    });
  }
  if (p.used_at) all.push({ at: p.used_at, what: "The right code was typed" });
  else if (p.checked_at) all.push({ at: p.checked_at, what: `A code was typed the last time; ${p.tries_left} tries are left` });
  if (!p.used_at) all.push({ at: p.ends_at, what: Date.parse(p.ends_at) > Date.now() ? "It will be over" : "Its time was over" });
  return all.sort((a, b) => a.at.localeCompare(b.at));
}

/** One passcode's story, without its code. */
export function PasscodePage() {
  const { id = "" } = useParams();
  const { data: p, error } = useQuery({
    queryKey: ["passcode", id],
    queryFn: () => got(api.GET("/v1/passcodes/{id}", { params: { path: { id } } })),
    refetchInterval: 5000,
  });
  if (!p) {
    return (
      <div className="page">
        {error && <Refused error={error} />}
        {error && <Link to="/passcodes">All passcodes</Link>}
      </div>
    );
  }
  return (
    <div className="page">
      <h1>
        The code for <span className="mono fs-5">{p.number}</span> {stands[p.state]}
      </h1>
      <p className="quiet">The code itself is kept nowhere, and shown to nobody.</p>
      <Table className="dense ledger">
        <tbody>
          {story(p).map((s, i) => (
            <tr key={i}>
              <td>{when(s.at)}</td>
              <td className="said">{s.what}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <dl className="facts mt-3">
        <dt>Purpose</dt>
        <dd>{p.purpose}</dd>
        <dt>Sent</dt>
        <dd>
          {p.sends === 1 ? "once" : `${p.sends} times`}
          {p.again_at && `, again from ${when(p.again_at)} on`}
        </dd>
        {p.state === "open" && (
          <>
            <dt>Wrong codes</dt>
            <dd>{p.tries_left} more may be typed</dd>
          </>
        )}
        {p.reference && (
          <>
            <dt>Your reference</dt>
            <dd>{p.reference}</dd>
          </>
        )}
        <dt>Id</dt>
        <dd className="mono">{p.id}</dd>
      </dl>
    </div>
  );
}

/** The last passcodes, of all or of one number. */
export function LastPasscodes() {
  const [to, setTo] = useState("");
  const { data, error } = useQuery({
    queryKey: ["passcodes", to],
    queryFn: () => got(api.GET("/v1/passcodes", { params: { query: { limit: 10, ...(to && { to }) } } })),
    refetchInterval: 5000,
    retry: false,
    placeholderData: keepPreviousData,
  });
  return (
    <section className="mt-4">
      <h2>The last ones</h2>
      <div className="filters">
        <Form.Control
          size="sm"
          style={{ maxWidth: "14rem" }}
          aria-label="Number"
          placeholder="of a number"
          value={to}
          onChange={(e) => setTo(e.target.value)}
        />
      </div>
      {error && to.length > 7 && <Refused error={error} />}
      {data && data.items.length === 0 && <p className="quiet">None went to this number.</p>}
      {data && data.items.length > 0 && (
        <Table className="dense">
          <tbody>
            {data.items.map((p) => (
              <tr key={p.id}>
                <td>{when(p.created_at)}</td>
                <td>
                  <Link className="mono" to={`/passcodes/${p.id}`}>
                    {p.number}
                  </Link>
                </td>
                <td>{p.purpose}</td>
                <td>{stands[p.state]}</td>
                <td className="wide">{p.sends > 1 && `sent ${p.sends} times`}</td>
                <td className="wide mono">{p.address}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
