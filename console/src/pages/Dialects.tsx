import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type DialectCheck } from "../api/client";
import { Fault, Refused } from "../parts/Refused";
import { TrialResult } from "../parts/TrialResult";

function Checked({ check }: { check: DialectCheck }) {
  if (check.mistakes.length > 0) {
    return (
      <div className="notice wrong lines" role="status">
        {check.mistakes.length === 1 ? "There is a mistake:" : `There are ${check.mistakes.length} mistakes:`}
        {check.mistakes.map((m) => <div key={m} className="mono">{m}</div>)}
      </div>
    );
  }
  const failed = check.examples.filter((e) => !e.passed).length;
  return (
    <>
      <p className={failed ? "notice wrong" : ""} role="status">
        {check.name} is well-formed{check.examples.length === 0 ? ". It has no examples yet." : failed ? `, but ${failed} of ${check.examples.length} examples are not read as they say.` : `, and its ${check.examples.length} examples pass.`}
      </p>
      {check.warnings.map((w) => <p key={w} className="notice">{w}</p>)}
      {check.examples.length > 0 && (
        <div className="table-responsive">
          <Table className="dense">
            <thead><tr><th /><th>Recorded</th><th>Check</th><th>Gives</th></tr></thead>
            <tbody>
              {check.examples.map((e) => (
                <tr key={e.example}>
                  <td className="quiet">{e.example}</td>
                  <td>{e.kind} {e.status > 0 && e.status}</td>
                  <td>{e.passed ? <span className="quiet">passed</span> : <span className="fault">{e.wrong}; it should give <span className="mono">{JSON.stringify(e.want)}</span></span>}</td>
                  <td className="mono wrap">{JSON.stringify(e.gives)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </>
  );
}

/** Write a dialect file, check it and try it, without leaving the page. */
export function Dialects() {
  const [source, setSource] = useState("");
  const [form, setForm] = useState({ address: "", call: "submit", to: "", sender: "", text: "" });
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const shipped = useQuery({ queryKey: ["dialects"], queryFn: () => got(api.GET("/v1/dialects")), staleTime: Infinity });
  const check = useMutation({ mutationFn: (text: string) => got(api.POST("/v1/dialects/check", { body: { source: text } })) });
  const attempt = useMutation({
    mutationFn: (dry_run: boolean) => got(api.POST("/v1/dialects/try", { body: { source, ...form, call: form.call as "submit", secrets, dry_run } })),
  });
  const take = (text: string) => { setSource(text); attempt.reset(); check.mutate(text); };
  const names = check.data?.mistakes.length === 0 ? check.data.secrets : [];
  const fill = (changes: Partial<typeof form>) => { attempt.reset(); setForm({ ...form, ...changes }); };
  const field = (name: keyof typeof form, label: string, hint = "") => (
    <div className="field">
      <Form.Label htmlFor={name}>{label}</Form.Label>
      <Form.Control id={name} placeholder={hint} className={name === "address" ? "mono" : ""} value={form[name]} onChange={(e) => fill({ [name]: e.target.value })} />
      <Fault error={attempt.error} field={name} />
    </div>
  );
  return (
    <div className="page">
      <p className="mb-1"><Link to="/gateways">Gateways</Link></p>
      <h1>Dialects</h1>
      <p className="quiet">A dialect file says how one kind of gateway is spoken to. Begin with one that ships and resembles yours, or with <span className="mono">pigeon dialect new</span>; nothing here is kept until a gateway is added with it.</p>
      {shipped.error && <Refused error={shipped.error} />}
      <div className="filters">
        <Form.Select aria-label="Begin with one that ships" value="" onChange={(e) => take(shipped.data?.items.find((d) => d.name === e.target.value)?.source ?? "")}>
          <option value="">Begin with one that ships</option>
          {shipped.data?.items.map((d) => <option key={d.name} value={d.name}>{d.name}: {d.about}</option>)}
        </Form.Select>
        <Form.Control type="file" aria-label="A file of your own" accept=".yaml,.yml" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) take(await file.text()); }} />
      </div>
      <Form.Control as="textarea" aria-label="The dialect file" className="mono code mb-2" rows={22} spellCheck={false} value={source} onChange={(e) => { setSource(e.target.value); check.reset(); attempt.reset(); }} />
      <p><Button disabled={!source || check.isPending} onClick={() => check.mutate(source)}>Check it</Button></p>
      {check.error && <Refused error={check.error} />}
      {check.data && <Checked check={check.data} />}
      {check.data?.mistakes.length === 0 && (
        <Form noValidate onSubmit={(e) => { e.preventDefault(); attempt.mutate(false); }}>
          <h2>Try it</h2>
          <p className="quiet">One real request, made from where the service runs. A text is really sent.</p>
          <div className="row2 narrow">
            {field("address", "Address", "https://sms.example.net/api")}
            <div className="field">
              <Form.Label htmlFor="call">What to try</Form.Label>
              <Form.Select id="call" value={form.call} onChange={(e) => fill({ call: e.target.value })}>
                {["submit", "balance", "query", "token"].map((c) => <option key={c}>{c}</option>)}
              </Form.Select>
            </div>
            {names.map((name) => (
              <div className="field" key={name}>
                <Form.Label htmlFor={`try-${name}`}>{name}</Form.Label>
                <Form.Control id={`try-${name}`} type="password" autoComplete="new-password" className="mono" value={secrets[name] ?? ""} onChange={(e) => { attempt.reset(); setSecrets({ ...secrets, [name]: e.target.value }); }} />
              </div>
            ))}
            {form.call === "submit" && <>{field("to", "To: your own number", "+447700900123")}{field("sender", "Sender")}</>}
          </div>
          {form.call === "submit" && <div className="narrow">{field("text", "Text")}</div>}
          <Fault error={attempt.error} field="secrets" />
          {attempt.error && <Refused error={attempt.error} />}
          <p>
            <Button type="submit" disabled={attempt.isPending}>{attempt.isPending ? "Trying …" : "Send it"}</Button>{" "}
            <Button variant="outline-primary" disabled={attempt.isPending} onClick={() => attempt.mutate(true)}>Only show the request</Button>
          </p>
        </Form>
      )}
      {attempt.data && <TrialResult trial={attempt.data} />}
    </div>
  );
}
