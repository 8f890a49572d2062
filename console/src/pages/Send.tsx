import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link } from "react-router";
import { api, got, Refusal, type Draft } from "../api/client";
import { Fault, Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { precisely } from "../parts/time";

const fields = ["to", "text", "sender", "kind"];

/** How a message that was just sent fares. */
function Progress({ id, phone }: { id: string; phone: string }) {
  const { data: m } = useQuery({
    queryKey: ["messages", "one", id],
    queryFn: () => got(api.GET("/v1/messages/{id}", { params: { path: { id }, query: { raw: true } } })),
  });
  if (!m) return null;
  const steps = (m.evidence ?? []).filter((e, i, all) => e.state_after !== all[i - 1]?.state_after);
  return (
    <section aria-live="polite" className="mb-4">
      <p className="mb-1">To <span className="mono">{m.to}</span>, {m.segments === 1 ? "1 segment" : `${m.segments} segments`} of {m.encoding}</p>
      <ol className="list-unstyled mb-1">
        {steps.map((e) => (
          <li key={e.id}><span className="mono quiet me-3">{precisely(e.at)}</span><StateBadge state={e.state_after} /></li>
        ))}
      </ol>
      {m.advice && <p className="mb-1">{m.advice}</p>}
      <Link to={`/messages/${m.id}`}>How this is known</Link>
      {phone && m.state === "delivered" && <a className="ms-3" href={`${phone}#${encodeURIComponent(m.to)}`} target="_blank" rel="noreferrer">On the practice phone</a>}
    </section>
  );
}

export function Send({ phone }: { phone: string }) {
  const [draft, setDraft] = useState<Draft>({ to: "", text: "" });
  const [sent, setSent] = useState<string[]>([]);
  const once = useRef(crypto.randomUUID()); // a second click sends nothing more
  const to = useRef<HTMLInputElement>(null);
  const senders = useQuery({ queryKey: ["senders"], queryFn: () => got(api.GET("/v1/senders")) });
  const send = useMutation({
    mutationFn: (d: Draft) => got(api.POST("/v1/messages", { body: d, params: { header: { "Idempotency-Key": once.current } } })),
    onSuccess: (m) => {
      once.current = crypto.randomUUID();
      setSent([m.id, ...sent].slice(0, 5));
      to.current?.select();
    },
    onError: () => {
      // What was refused may be mended; what was not answered may have been taken.
    },
  });
  const change = (changes: Partial<Draft>) => {
    if (send.error instanceof Refusal && send.error.problem.status !== 0) once.current = crypto.randomUUID();
    setDraft({ ...draft, ...changes });
  };
  const elsewhere = send.error && !(send.error instanceof Refusal && send.error.problem.errors?.some((e) => fields.includes(e.field)));
  const wrong = (field: string) => send.error instanceof Refusal && Boolean(send.error.problem.errors?.some((e) => e.field === field));
  return (
    <div className="page">
      <h1>Send one text</h1>
      <p className="quiet">To yourself first, then to a few, then to everyone.</p>
      <div className="desk">
        <Form onSubmit={(e) => { e.preventDefault(); send.mutate(draft); }} noValidate>
          {elsewhere && <Refused error={send.error} />}
          <div className="field">
            <Form.Label htmlFor="to">To</Form.Label>
            <Form.Control id="to" ref={to} className="mono" inputMode="tel" autoComplete="off" autoFocus placeholder="+447700900123" value={draft.to}
              aria-invalid={wrong("to")} aria-describedby="to-fault" onChange={(e) => change({ to: e.target.value })} />
            <Fault error={send.error} field="to" />
          </div>
          <div className="field">
            <Form.Label htmlFor="text">Text</Form.Label>
            <Form.Control id="text" as="textarea" placeholder="Crossing 0740 now leaves from berth 3" value={draft.text}
              aria-invalid={wrong("text")} aria-describedby="text-fault" onChange={(e) => change({ text: e.target.value })}
              onKeyDown={(e) => { if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) send.mutate(draft); }} />
            <Fault error={send.error} field="text" />
          </div>
          <div className="row2">
            <div className="field">
              <Form.Label htmlFor="sender">From</Form.Label>
              <Form.Select id="sender" value={draft.sender ?? ""} onChange={(e) => change({ sender: e.target.value || undefined })}>
                {senders.data?.items.map((s) => <option key={s.sender} value={s.default ? "" : s.sender}>{s.sender}</option>)}
              </Form.Select>
              <Fault error={send.error} field="sender" />
            </div>
            <div className="field">
              <Form.Label htmlFor="kind">Kind</Form.Label>
              <Form.Select id="kind" value={draft.kind ?? "transactional"} onChange={(e) => change({ kind: e.target.value as Draft["kind"] })}>
                <option value="otp">otp: overtakes everything, of use for 5 minutes</option>
                <option value="transactional">transactional: of use for 6 hours</option>
                <option value="bulk">bulk: takes what is left, of use for a day</option>
              </Form.Select>
              <Fault error={send.error} field="kind" />
            </div>
          </div>
          <Button type="submit" disabled={send.isPending}>Send</Button>
          <span className="quiet ms-3">or Ctrl+Enter</span>
        </Form>
        <div>
          {sent.length === 0
            ? <p className="quiet">What became of it shows here, step by step, as it happens.</p>
            : sent.map((id) => <Progress key={id} id={id} phone={phone} />)}
        </div>
      </div>
    </div>
  );
}
