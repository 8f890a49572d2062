import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Nav from "react-bootstrap/Nav";
import Table from "react-bootstrap/Table";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { api, got, type Template } from "../api/client";
import { useWeighing } from "../api/weigh";
import { Flaws } from "../parts/Flaws";
import { Refused } from "../parts/Refused";
import { Strips } from "../parts/Strips";
import { Undo } from "../parts/Undo";
import { Sum, WritingBox } from "../parts/WritingBox";

export function Templates() {
  const { data, error } = useQuery({ queryKey: ["templates"], queryFn: () => got(api.GET("/v1/templates")) });
  const navigate = useNavigate();
  const queries = useQueryClient();
  const gone = (useLocation().state as { gone?: { name: string; source: string } } | null)?.gone;
  const undo = useMutation({
    mutationFn: (source: string) => got(api.POST("/v1/templates", { body: { source } })),
    onSuccess: async (t) => { await queries.invalidateQueries({ queryKey: ["templates"] }); navigate(`/templates/${t.name}`); },
  });
  return (
    <div className="page">
      <h1>Templates</h1>
      <Flaws what="template" />
      <p className="quiet">Texts with fields, in several languages. The recipient's language or country chooses the text.</p>
      {error && !data && <Refused error={error} />}
      {gone && <Undo what={`${gone.name} is forgotten.`} undo={() => undo.mutate(gone.source)} />}
      {undo.error && <Refused error={undo.error} />}
      {data?.items.length === 0 && <p className="empty">There is no template yet. Write one here, or add a file with <span className="mono">pigeon template add</span>.</p>}
      {data && data.items.length > 0 && (
        <Table>
          <thead><tr><th>Template</th><th>Languages</th><th>Kind</th><th>Text</th></tr></thead>
          <tbody>
            {data.items.map((t) => (
              <tr key={t.name} className="chosen" onClick={() => navigate(`/templates/${t.name}`)}>
                <td className="text-nowrap"><Link to={`/templates/${t.name}`}>{t.name}</Link></td>
                <td className="text-nowrap">{Object.keys(t.texts).sort().join(" ")}</td>
                <td>{t.kind}</td>
                <td className="text">{t.texts[t.language]}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <Button onClick={() => navigate("/templates/new")}>Write a template</Button>
    </div>
  );
}

type Form_ = Pick<Template, "name" | "about" | "kind" | "sender" | "cure" | "language" | "texts" | "fields" | "registered">;

const empty: Form_ = { name: "", about: "", kind: "", sender: "", cure: "safe", language: "en", texts: { en: "" }, fields: {}, registered: [] };

/** The fields that stand in texts, in the order in which they first do. */
function fieldsIn(texts: Record<string, string>) {
  const names = new Set<string>();
  for (const text of Object.values(texts)) for (const m of text.replaceAll("{{", "").matchAll(/\{\s*([A-Za-z_]\w*)\s*(?:\|[^{}]*)?\}/g)) names.add(m[1]!);
  return [...names];
}

const samples = { text: "", number: "1234", date: "2026-11-15", time: "07:40", money: "48.50 EUR" };

export function TemplatePage() {
  const { name = "" } = useParams();
  const fresh = name === "new";
  const { data, error } = useQuery({
    queryKey: ["templates", name], enabled: !fresh, refetchInterval: false, refetchOnWindowFocus: false,
    queryFn: () => got(api.GET("/v1/templates/{name}", { params: { path: { name } } })),
  });
  if (fresh) return <Editor key="new" start={empty} fresh />;
  if (error) return <div className="page"><Refused error={error} /><Link to="/templates">All templates</Link></div>;
  if (!data) return <div className="page" />;
  return <Editor key={data.changed_at} start={data} startSource={data.source} fresh={false} />;
}

/** The shortest, typical and longest text over a list of recipients, and what all cost. */
function OverData({ source }: { source: string }) {
  const [data, setData] = useState<string>();
  const weigh = useMutation({ mutationFn: () => got(api.POST("/v1/templates/weigh", { body: { source, data: data ?? "" } })) });
  const span = weigh.data;
  if (data === undefined) return <p className="mt-2"><button type="button" className="plain" onClick={() => setData("")}>Weigh it over a list of recipients</button></p>;
  const cost = span?.cost && [...span.cost.sums.map((m) => `${m.amount} ${m.currency}`), ...(span.cost.unknown ? [`${span.cost.unknown} of unknown price`] : [])].join(" and ");
  return (
    <div className="field mt-3">
      <Form.Label htmlFor="data">Recipients as CSV; the head names fields, and perhaps to, country and language</Form.Label>
      <Form.Control id="data" as="textarea" className="mono" rows={5} value={data} placeholder={"to,time,port,berth\n+447700900123,07:40,Skerrow,3"} onChange={(e) => { setData(e.target.value); weigh.reset(); }} />
      <Form.Control type="file" className="mt-2" aria-label="Choose a file" accept=".csv" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) { setData(await file.text()); weigh.reset(); } }} />
      <Button size="sm" variant="outline-primary" className="mt-2" disabled={!data || weigh.isPending} onClick={() => weigh.mutate()}>Weigh all rows</Button>
      {weigh.error && <Refused error={weigh.error} />}
      {span && (
        <div className="mt-2" role="status">
          <p className="mb-1">{span.rows} rows, <b>{span.segments === 1 ? "1 segment" : `${span.segments} segments`}</b> in all{cost && <>, <b>{cost}</b></>}. {span.failed > 0 && <span className="wrong">{span.failed} cannot be sent.</span>}</p>
          <dl className="facts">
            {(["shortest", "typical", "longest"] as const).map((which) => {
              const sample = span[which];
              return sample && <div key={which} className="d-contents"><dt>{which}</dt><dd>{sample.segments === 1 ? "1 segment" : `${sample.segments} segments`}, {sample.units} units, row {sample.row}: <span className="quiet">{sample.text}</span></dd></div>;
            })}
          </dl>
          {span.faults.map((f) => <div key={f.row} className="fault">row {f.row}{f.field && `, ${f.field}`}: {f.wrong}<span>Accepted: {f.accepted}.</span></div>)}
        </div>
      )}
    </div>
  );
}

function Editor({ start, startSource = "", fresh }: { start: Form_; startSource?: string; fresh: boolean }) {
  const [t, setTemplate] = useState<Form_>(start);
  const [language, setLanguage] = useState(start.language);
  const [another, setAnother] = useState("");
  const [given, setGiven] = useState<Record<string, string>>({});
  const navigate = useNavigate();
  const queries = useQueryClient();
  const names = fieldsIn(t.texts);
  const used = { ...t, fields: Object.fromEntries(Object.entries(t.fields).filter(([n]) => names.includes(n))) };
  // JSON is YAML too. What is empty is left out.
  const { name, about, kind, sender, cure, texts, fields, registered } = used;
  const source = JSON.stringify({ name: name || "unnamed", about, ...(kind && { kind }), ...(sender && { sender }), cure, language: t.language, texts, fields, registered });
  const sample = Object.fromEntries(names.map((n) => {
    const field = fields[n];
    const usual = field?.only === "digits" ? "123456".slice(0, field.most || 6) : samples[field?.as || "text"] || n.slice(0, field?.most || undefined);
    return [n, given[n] || usual];
  }));
  const weighing = useWeighing({ source, fields: sample, language, cure: cure || "off" }).data;
  const done = async (to: string, state?: object) => { await queries.invalidateQueries({ queryKey: ["templates"] }); navigate(to, { state }); };
  const save = useMutation({
    mutationFn: () => fresh ? got(api.POST("/v1/templates", { body: { source } })) : got(api.PUT("/v1/templates/{name}", { params: { path: { name } }, body: { source } })),
    onSuccess: (saved) => done(fresh ? `/templates/${saved.name}` : "/templates"),
  });
  const remove = useMutation({ mutationFn: () => got(api.DELETE("/v1/templates/{name}", { params: { path: { name } } })), onSuccess: () => done("/templates", { gone: { name, source: startSource } }) });
  const change = (changes: Partial<Form_>) => { save.reset(); setTemplate({ ...t, ...changes }); };
  const field = (n: string, changes: Partial<Template["fields"][string]>) => change({ fields: { ...t.fields, [n]: { as: "", only: "", most: 0, ...t.fields[n], ...changes } } });
  const add = () => {
    const tag = another.trim();
    if (!tag || t.texts[tag] !== undefined) return;
    change({ texts: { ...t.texts, [tag]: t.texts[t.language] ?? "" } });
    setLanguage(tag);
    setAnother("");
  };
  return (
    <div className="page">
      <h1>{fresh ? "A new template" : t.name}</h1>
      <Form className="desk" noValidate onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
        <div>
          <div className="row2">
            {fresh && (
              <div className="field">
                <Form.Label htmlFor="name">Name</Form.Label>
                <Form.Control id="name" autoFocus className="mono" placeholder="crossing-moved" value={t.name} onChange={(e) => change({ name: e.target.value })} />
              </div>
            )}
            <div className="field">
              <Form.Label htmlFor="about">What it is for</Form.Label>
              <Form.Control id="about" value={t.about} onChange={(e) => change({ about: e.target.value })} />
            </div>
          </div>
          <Nav variant="underline" className="tags" activeKey={language} onSelect={(k) => k && setLanguage(k)}>
            {Object.keys(t.texts).sort().map((tag) => <Nav.Item key={tag}><Nav.Link eventKey={tag} as="button" type="button">{tag}{tag === t.language && <span className="quiet"> for all others</span>}</Nav.Link></Nav.Item>)}
          </Nav>
          <WritingBox id="text" label={`Text in ${language}, with fields such as {port} or {note|}`} value={t.texts[language] ?? ""} exact={false} weighing={weighing}
            onChange={(text) => change({ texts: { ...t.texts, [language]: text } })} />
          <div className="filters mt-3">
            <Form.Control className="tag" aria-label="Another language" placeholder="el, pt-BR …" value={another} onChange={(e) => setAnother(e.target.value)} onKeyDown={(e) => { if (e.key === "Enter") { e.preventDefault(); add(); } }} />
            <Button variant="outline-primary" onClick={add}>Add a language</Button>
            {language !== t.language && (
              <>
                <Button variant="link" onClick={() => change({ language })}>Use {language} for all others</Button>
                <Button variant="link" onClick={() => { const { [language]: _, ...rest } = t.texts; change({ texts: rest }); setLanguage(t.language); }}>Drop {language}</Button>
              </>
            )}
          </div>
          {names.length > 0 && (
            <div className="table-responsive">
              <Table className="fields w-auto">
                <thead><tr><th>Field</th><th>Written as</th><th>Only</th><th>At most</th><th>For instance</th></tr></thead>
                <tbody>
                  {names.map((n) => (
                    <tr key={n}>
                      <td className="mono">{n}</td>
                      <td><Form.Select size="sm" aria-label={`${n} written as`} value={t.fields[n]?.as ?? ""} onChange={(e) => field(n, { as: e.target.value as Template["fields"][string]["as"] })}>
                        <option value="">text</option><option>number</option><option>date</option><option>time</option><option>money</option>
                      </Form.Select></td>
                      <td><Form.Select size="sm" aria-label={`${n} only`} value={t.fields[n]?.only ?? ""} onChange={(e) => field(n, { only: e.target.value as Template["fields"][string]["only"] })}>
                        <option value="">anything</option><option value="no_links">no links</option><option>digits</option>
                      </Form.Select></td>
                      <td><Form.Control size="sm" aria-label={`${n} at most`} className="few" inputMode="numeric" value={t.fields[n]?.most || ""} onChange={(e) => field(n, { most: Number(e.target.value.replace(/\D/g, "")) || 0 })} /></td>
                      <td><Form.Control size="sm" aria-label={`${n} for instance`} placeholder={sample[n]} value={given[n] ?? ""} onChange={(e) => setGiven({ ...given, [n]: e.target.value })} /></td>
                    </tr>
                  ))}
                </tbody>
              </Table>
            </div>
          )}
          {save.error && <Refused error={save.error} />}
          <Button type="submit" disabled={save.isPending}>{fresh ? "Add it" : "Save"}</Button>
          {!fresh && <Link className="btn btn-link" to={`/send?template=${name}`}>Send one</Link>}
          {!fresh && <Button variant="link" className="text-danger" disabled={remove.isPending} onClick={() => remove.mutate()}>Forget it</Button>}
        </div>
        <div>
          <h2>As it would arrive</h2>
          {weighing && weighing.text !== "" && (
            <>
              <Strips parts={weighing.parts} room={weighing.room} culprits={weighing.culprits} />
              <Sum weighing={weighing} />
              {weighing.replaced.length > 0 && <p className="quiet">Replaced on the way: {weighing.replaced.map((r) => `${r.from} by ${r.to || "nothing"}`).join(", ")}</p>}
            </>
          )}
          <OverData source={source} />
          {weighing?.errors.map((e) => <div className="fault" key={e.field + e.wrong}>{e.wrong}<span>Accepted: {e.accepted}.</span></div>)}
          <div className="field mt-4">
            <Form.Label htmlFor="cure">Characters may be replaced to save segments</Form.Label>
            <Form.Select id="cure" value={t.cure || "off"} onChange={(e) => change({ cure: e.target.value as Form_["cure"] })}>
              <option value="off">off: it goes as it is written</option>
              <option value="safe">safe: what nobody notices</option>
              <option value="strong">strong: also what shows, and means the same</option>
            </Form.Select>
          </div>
          <div className="field">
            <Form.Label htmlFor="kind">Kind</Form.Label>
            <Form.Select id="kind" value={t.kind} onChange={(e) => change({ kind: e.target.value as Form_["kind"] })}>
              <option value="">as it is sent</option><option>otp</option><option>transactional</option><option>bulk</option>
            </Form.Select>
          </div>
          {t.registered.map((r) => (
            <p key={r.country + r.id} className="quiet">Registered in {r.country}{r.gateway && ` through ${r.gateway}`} as <span className="mono">{r.id}</span>: {r.wording}</p>
          ))}
        </div>
      </Form>
    </div>
  );
}
