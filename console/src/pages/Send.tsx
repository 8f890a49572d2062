import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link, useSearchParams } from "react-router";
import { api, got, Refusal, type Draft, type WeighRequest } from "../api/client";
import { useWeighing } from "../api/weigh";
import { Fault, Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { Strips } from "../parts/Strips";
import { precisely } from "../parts/time";
import { Verdict } from "../parts/Verdict";
import { Sum, WritingBox } from "../parts/WritingBox";

const fields = ["to", "text", "sender", "kind", "template"];

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
      <p className="mb-1">To <span className="mono">{m.to}</span>, {m.segments === 1 ? "1 segment" : `${m.segments} segments`} of {m.encoding}{m.price && `, ${m.price.amount} ${m.price.currency}`}</p>
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
  const [search] = useSearchParams();
  const [draft, setDraft] = useState<Draft>({ to: "", text: "", template: search.get("template") ?? undefined });
  const [sent, setSent] = useState<string[]>([]);
  const once = useRef(crypto.randomUUID()); // a second click sends nothing more
  const to = useRef<HTMLInputElement>(null);
  const senders = useQuery({ queryKey: ["senders"], queryFn: () => got(api.GET("/v1/senders")) });
  const templates = useQuery({ queryKey: ["templates"], queryFn: () => got(api.GET("/v1/templates")) });
  const template = templates.data?.items.find((t) => t.name === draft.template);
  const question: WeighRequest = { to: draft.to.trim() === "" ? [] : [draft.to], sender: draft.sender, kind: draft.kind, cure: "off" };
  const weighing = useWeighing(draft.template ? { ...question, template: draft.template, fields: draft.fields, language: draft.language } : { ...question, text: draft.text }).data;
  const recipient = weighing?.recipients[0];
  const said = draft.to.trim() === "" ? [] : recipient?.errors ?? [];
  const send = useMutation({
    mutationFn: (d: Draft) => got(api.POST("/v1/messages", { body: { ...d, text: d.template ? undefined : d.text }, params: { header: { "Idempotency-Key": once.current } } })),
    onSuccess: (m) => {
      once.current = crypto.randomUUID();
      if ("id" in m) setSent([m.id, ...sent].slice(0, 5));
      to.current?.select();
    },
    onError: () => {
      // What was refused may be mended; what was not answered may have been taken.
    },
  });
  const change = (changes: Partial<Draft>) => {
    if (send.error instanceof Refusal && send.error.problem.status !== 0) once.current = crypto.randomUUID();
    if (send.error) send.reset();
    setDraft({ ...draft, ...changes });
  };
  const elsewhere = send.error && !(send.error instanceof Refusal && send.error.problem.errors?.some((e) => fields.includes(e.field) || e.field.startsWith("fields.")));
  const wrong = (field: string) => send.error instanceof Refusal && Boolean(send.error.problem.errors?.some((e) => e.field === field));
  const submit = () => send.mutate(draft);
  return (
    <div className="page">
      <h1>Send one text</h1>
      <p className="quiet">To yourself first, then to a few, then to everyone.</p>
      <div className="desk">
        <Form onSubmit={(e) => { e.preventDefault(); submit(); }} noValidate>
          {elsewhere && <Refused error={send.error} />}
          <div className="field">
            <Form.Label htmlFor="to">To</Form.Label>
            <Form.Control id="to" ref={to} className="mono" inputMode="tel" autoComplete="off" autoFocus placeholder="+447700900123" value={draft.to}
              aria-invalid={wrong("to")} aria-describedby="to-fault" onChange={(e) => change({ to: e.target.value })} />
            <Fault error={send.error} field="to" />
          </div>
          {(templates.data?.items.length ?? 0) > 0 && (
            <div className="field">
              <Form.Label htmlFor="template">Wording</Form.Label>
              <Form.Select id="template" value={draft.template ?? ""} onChange={(e) => change({ template: e.target.value || undefined, fields: undefined, kind: undefined })}>
                <option value="">A text of my own</option>
                {templates.data?.items.map((t) => <option key={t.name} value={t.name}>{t.name}{t.about && `: ${t.about}`}</option>)}
              </Form.Select>
              <Fault error={send.error} field="template" />
            </div>
          )}
          <div className="field">
            {draft.template ? (
              <>
                {template && [...template.must, ...template.may].map((name) => (
                  <div key={name} className="filled">
                    <Form.Label htmlFor={`field-${name}`}>{name}{template.may.includes(name) && " (may be left out)"}</Form.Label>
                    <Form.Control id={`field-${name}`} autoComplete="off" value={String(draft.fields?.[name] ?? "")} placeholder={{ time: "07:40", date: "2026-11-15", money: "48.50 EUR", number: "12", text: "" }[template.fields[name]?.as || "text"]}
                      onChange={(e) => change({ fields: { ...draft.fields, [name]: e.target.value } })} />
                    <Fault error={send.error} field={`fields.${name}`} />
                  </div>
                ))}
                {weighing && weighing.text !== "" && <><Strips parts={weighing.parts} room={weighing.room} culprits={weighing.culprits} /><Sum weighing={weighing} /></>}
                {weighing?.text && recipient?.language && <span className="quiet ms-2">in {recipient.language}</span>}
              </>
            ) : (
              <WritingBox id="text" value={draft.text ?? ""} onChange={(text) => change({ text })} weighing={weighing} placeholder="Crossing 0740 now leaves from berth 3" invalid={wrong("text")} onSend={submit} />
            )}
            <Fault error={send.error} field="text" />
          </div>
          <div className="row2">
            <div className="field">
              <Form.Label htmlFor="sender">From</Form.Label>
              <Form.Select id="sender" value={draft.sender ?? ""} onChange={(e) => change({ sender: e.target.value || undefined })}>
                <option value="">The usual one for the country</option>
                {senders.data?.items.map((s) => <option key={s.sender} value={s.sender}>{s.sender}</option>)}
              </Form.Select>
              <Fault error={send.error} field="sender" />
            </div>
            <div className="field">
              <Form.Label htmlFor="kind">Kind</Form.Label>
              <Form.Select id="kind" value={draft.kind ?? (template?.kind || "transactional")} onChange={(e) => change({ kind: e.target.value as Draft["kind"] })}>
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
          {recipient && draft.to.trim() !== "" && (
            <section className="mb-4">
              <h2>Before it goes</h2>
              <Verdict recipient={recipient} />
              {said.filter((e) => !recipient.decision?.findings.some((f) => e.wrong.startsWith(f.say)) && !(e.field === "text" && draft.text === "")).map((e) => (
                <div className="fault" key={e.field + e.wrong}>{e.field.replace("fields.", "")}: {e.wrong}<span>Accepted: {e.accepted}.</span></div>
              ))}
            </section>
          )}
          {sent.length === 0
            ? draft.to.trim() === "" && <p className="quiet">Whether it may go, and what it costs, shows here as you write; then what became of it, step by step.</p>
            : <><h2>Sent</h2>{sent.map((id) => <Progress key={id} id={id} phone={phone} />)}</>}
        </div>
      </div>
    </div>
  );
}
