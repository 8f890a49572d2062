import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { useSearchParams } from "react-router";
import { api, got, type Access, type Rule } from "../api/client";
import { Refused } from "../parts/Refused";

const asked = ["alphanumeric", "numeric", "short_code", "texts", "links"] as const;
const heads = { alphanumeric: "Names", numeric: "Numbers", short_code: "Short codes", texts: "Texts", links: "Links" };
const accesses: Access[] = ["open", "registered", "closed", "unknown"];

const quietOf = (r: Rule) => (r.quiet ?? []).flatMap((q) => [
  `${q.kinds.join(", ")} ${q.from}–${q.to}`,
  ...(q.days?.length ? [`all ${q.days.join(", ")}`] : []),
]);
const quiet = (r: Rule) => quietOf(r).join(", ");

function Says({ access }: { access: Access }) {
  return <span className={access === "closed" ? "fw-bold" : access === "registered" ? "" : "quiet"}>{access}</span>;
}

function Editor({ rule, close }: { rule: Rule; close: () => void }) {
  // Whoever changes a rule has looked at it today, and says who told them.
  const [r, setRule] = useState<Rule>({ ...rule, date: new Date().toISOString().slice(0, 10), origin: rule.changed_by ? rule.origin : "" });
  const queries = useQueryClient();
  const done = () => { void queries.invalidateQueries({ queryKey: ["rules"] }); close(); };
  const save = useMutation({ mutationFn: () => got(api.PUT("/v1/rules/{country}", { params: { path: { country: r.country } }, body: r })), onSuccess: done });
  const reset = useMutation({ mutationFn: () => got(api.DELETE("/v1/rules/{country}", { params: { path: { country: r.country } } })), onSuccess: done });
  return (
    <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
      <h2>{r.name}</h2>
      <div className="row2">
        {asked.map((what) => (
          <div className="field" key={what}>
            <Form.Label htmlFor={what}>{heads[what]}</Form.Label>
            <Form.Select id={what} value={r[what]} onChange={(e) => setRule({ ...r, [what]: e.target.value })}>
              {accesses.map((a) => <option key={a}>{a}</option>)}
            </Form.Select>
          </div>
        ))}
        <div className="field">
          <Form.Label htmlFor="opt-out">Bulk texts must say</Form.Label>
          <Form.Control id="opt-out" value={r.opt_out ?? ""} onChange={(e) => setRule({ ...r, opt_out: e.target.value })} />
        </div>
      </div>
      {(["stop", "start"] as const).map((word) => (
        <div className="field" key={word}>
          <Form.Label htmlFor={`${word}-answer`}>Answer to {word.toUpperCase()}</Form.Label>
          <Form.Control id={`${word}-answer`} maxLength={300} placeholder="none" value={r[`${word}_answer`] ?? ""}
            onChange={(e) => setRule({ ...r, [`${word}_answer`]: e.target.value })} />
        </div>
      ))}
      <p className="quiet">{quiet(r) && `Quiet hours: ${quiet(r)}. They are changed in an exported file.`}</p>
      <div className="field">
        <Form.Label htmlFor="origin">Who says so</Form.Label>
        <Form.Control id="origin" placeholder="the gateway's manual, a letter of the regulator …" value={r.origin ?? ""} onChange={(e) => setRule({ ...r, origin: e.target.value })} />
      </div>
      <div className="field">
        <Form.Label htmlFor="date">Looked at on</Form.Label>
        <Form.Control id="date" type="date" value={r.date ?? ""} onChange={(e) => setRule({ ...r, date: e.target.value })} />
      </div>
      <div className="field">
        <Form.Label htmlFor="note">Note</Form.Label>
        <Form.Control id="note" value={r.note ?? ""} onChange={(e) => setRule({ ...r, note: e.target.value })} />
      </div>
      {save.error && <Refused error={save.error} />}
      <Button type="submit" disabled={save.isPending}>Save</Button>
      <Button variant="link" onClick={close}>Leave it as it was</Button>
      {rule.changed_by && <Button variant="link" disabled={reset.isPending} onClick={() => reset.mutate()}>Back to the rule that ships</Button>}
    </Form>
  );
}

export function Countries() {
  const [search, setSearch] = useSearchParams();
  const [editing, setEditing] = useState<Rule>();
  const [importing, setImporting] = useState(false);
  // The address follows what is typed; if it led, fast typists would lose keys.
  const [q, setQ] = useState(search.get("q") ?? "");
  const { data, error } = useQuery({ queryKey: ["rules"], queryFn: () => got(api.GET("/v1/rules")) });
  const exportRules = async () => {
    const file = await got(api.GET("/v1/rules/export"));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([file.source], { type: "application/yaml" }));
    link.download = "rules.yaml";
    link.click();
    URL.revokeObjectURL(link.href);
  };
  const found = data?.items.filter((r) => /^[A-Z]{2}$/.test(q) ? r.country === q : `${r.country} ${r.name} ${r.note}`.toLowerCase().includes(q.toLowerCase())) ?? [];
  return (
    <div className="page">
      <h1>Countries</h1>
      <p className="quiet">What countries take. The rules that ship are starting points that nobody has confirmed: ask your gateway, then change them. Of countries that are not listed nothing is known.</p>
      {error && !data && <Refused error={error} />}
      <div className="filters">
        <Form.Control className="search" type="search" placeholder="Country or note" aria-label="Country or note" value={q} onChange={(e) => { setQ(e.target.value); setSearch(e.target.value ? { q: e.target.value } : {}, { replace: true }); }} />
        <Button variant="outline-primary" onClick={exportRules}>Export</Button>
        <Button variant="outline-primary" onClick={() => setImporting(!importing)}>Import</Button>
      </div>
      {importing && <Import close={() => setImporting(false)} />}
      {editing && <Editor key={editing.country} rule={editing} close={() => setEditing(undefined)} />}
      {found.length === 0 && data && <p className="empty">Nothing is known of such a country. A message there is let through, and the gateway decides.</p>}
      {found.length > 0 && (
        <div className="table-responsive">
          <Table className="dense">
            <thead><tr><th>Country</th>{asked.map((a) => <th key={a}>{heads[a]}</th>)}<th>Quiet hours</th><th>Must say</th><th>Note</th><th>Of</th><th /></tr></thead>
            <tbody>
              {found.map((r) => (
                <tr key={r.country}>
                  <td className="text-nowrap"><span className="mono me-2">{r.country}</span>{r.name}</td>
                  {asked.map((a) => <td key={a}><Says access={r[a]} /></td>)}
                  <td>{quietOf(r).map((q) => <div key={q} className="text-nowrap">{q}</div>)}</td>
                  <td>{r.opt_out}</td>
                  <td className="quiet note">{r.note}</td>
                  <td className="quiet text-nowrap">{r.date}{r.changed_by && <div>by {r.changed_by}</div>}</td>
                  <td><button className="plain" aria-label={`Change ${r.name}`} onClick={() => { setEditing(r); scrollTo({ top: 0 }); }}>Change</button></td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </div>
  );
}

function Import({ close }: { close: () => void }) {
  const [source, setSource] = useState("");
  const queries = useQueryClient();
  const load = useMutation({
    mutationFn: (dry_run: boolean) => got(api.POST("/v1/rules/import", { params: { query: { dry_run } }, body: { source } })),
    onSuccess: (_, dry) => { if (!dry) { void queries.invalidateQueries({ queryKey: ["rules"] }); close(); } },
  });
  return (
    <Form className="narrow" onSubmit={(e) => { e.preventDefault(); load.mutate(false); }}>
      <div className="field">
        <Form.Label htmlFor="rules">A file of rules, as an export has it</Form.Label>
        <Form.Control id="rules" as="textarea" className="mono" rows={8} value={source} onChange={(e) => { setSource(e.target.value); load.reset(); }} />
        <Form.Control type="file" className="mt-2" aria-label="Choose a file" accept=".yaml,.yml" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) setSource(await file.text()); }} />
      </div>
      {load.error && <Refused error={load.error} />}
      {load.data && <p>New: {load.data.new.join(" ") || "none"}. Changed: {load.data.changed.join(" ") || "none"}. Unchanged: {load.data.unchanged}.</p>}
      <Button variant="outline-primary" className="me-2" disabled={!source || load.isPending} onClick={() => load.mutate(true)}>See what would change</Button>
      <Button type="submit" disabled={!source || load.isPending}>Import</Button>
      <Button variant="link" onClick={close}>Leave it</Button>
    </Form>
  );
}
