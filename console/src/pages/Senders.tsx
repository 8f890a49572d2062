import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type Sender } from "../api/client";
import { Fault, Refused } from "../parts/Refused";
import { Undo } from "../parts/Undo";
import { words } from "../parts/words";

const blank = { sender: "", defaults: [] as Sender["defaults"], countries: "", gateways: "", registrations: "", two_way: false, per_second: "" };

/** What a sender is the default for, for people. */
function defaultsOf(s: Sender) {
  return s.defaults.map((d) => (d.kind || d.country ? [d.kind, d.country].filter(Boolean).join(" to ") : "all that has no other")).join(", ");
}

function toForm(s: Sender): typeof blank {
  return {
    sender: s.sender, defaults: s.defaults, countries: s.countries.join(" "), gateways: s.gateways.join(" "),
    registrations: Object.entries(s.registrations).map(([c, id]) => `${c}=${id}`).join(" "), two_way: s.two_way, per_second: s.per_second ? String(s.per_second) : "",
  };
}

export function Senders() {
  const [form, setForm] = useState<typeof blank>();
  const [editing, setEditing] = useState(false);
  const [gone, setGone] = useState<typeof blank>();
  const queries = useQueryClient();
  const { data, error } = useQuery({ queryKey: ["senders"], queryFn: () => got(api.GET("/v1/senders")) });
  const done = () => { setForm(undefined); void queries.invalidateQueries({ queryKey: ["senders"] }); };
  const save = useMutation({
    mutationFn: (f: typeof blank) => {
      const body = {
        sender: f.sender, defaults: f.defaults, countries: words(f.countries), gateways: words(f.gateways), two_way: f.two_way, per_second: Number(f.per_second) || 0,
        registrations: Object.fromEntries(words(f.registrations).map((w) => [w.split("=")[0] ?? "", w.split("=").slice(1).join("=")])),
      };
      return editing ? got(api.PUT("/v1/senders/{sender}", { params: { path: { sender: f.sender } }, body })) : got(api.POST("/v1/senders", { body }));
    },
    onSuccess: () => { setGone(undefined); done(); },
  });
  const remove = useMutation({ mutationFn: (sender: string) => got(api.DELETE("/v1/senders/{sender}", { params: { path: { sender } } })), onSuccess: () => { setGone(form); done(); } });
  const length = [...(form?.sender ?? "")].length;
  const named = /[^\d+]/.test(form?.sender ?? "");
  const open = (f: typeof blank, edit: boolean) => { save.reset(); setForm(f); setEditing(edit); };
  const fill = (changes: Partial<typeof blank>) => setForm({ ...form!, ...changes });
  const all = form?.defaults.some((d) => !d.kind && !d.country) ?? false;
  return (
    <div className="page">
      <h1>Senders</h1>
      <p className="quiet">
        Who a text may come from. What a country takes stands under Countries.{" "}
        <Link to="/optouts">Who does not want to be written to</Link>
      </p>
      {error && !data && <Refused error={error} />}
      {gone && <Undo what={`${gone.sender} is out of use.`} undo={() => { setEditing(false); save.mutate(gone); }} />}
      {data && data.items.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto">
            <thead><tr><th>Sender</th><th>Kind</th><th>Usual for</th><th>Countries</th><th>Gateways</th><th>Registered</th><th>Replies</th><th>A second</th><th /></tr></thead>
            <tbody>
              {data.items.map((s) => (
                <tr key={s.sender}>
                  <td><b>{s.sender}</b></td>
                  <td>{s.kind.replace("_", " ")}</td>
                  <td>{defaultsOf(s)}</td>
                  <td className="quiet">{s.countries.join(" ") || "where it may"}</td>
                  <td className="quiet">{s.gateways.join(" ") || "all"}</td>
                  <td className="mono">{Object.entries(s.registrations).map(([c, id]) => <div key={c}>{c} {id}</div>)}</td>
                  <td>{s.two_way ? "reach us" : <span className="quiet">no</span>}</td>
                  <td>{s.per_second || <span className="quiet">no limit</span>}</td>
                  <td className="text-nowrap"><button className="plain" onClick={() => open(toForm(s), true)}>Change</button></td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {data?.items.length === 0 && <p className="empty">No sender is in use yet. Add the name or number that your texts come from.</p>}
      {!form && <Button onClick={() => open(blank, false)}>Add a sender</Button>}
      {form && (
        <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); save.mutate(form); }}>
          <h2>{editing ? `Change ${form.sender}` : "Add a sender"}</h2>
          <div className="field">
            <Form.Label htmlFor="sender">Name, number with plus, or short code</Form.Label>
            <Form.Control id="sender" autoFocus={!editing} readOnly={editing} autoComplete="off" value={form.sender} aria-describedby="sender-count sender-fault" onChange={(e) => fill({ sender: e.target.value })} />
            <div id="sender-count" className={named && length > 11 ? "fault" : "quiet"}>
              {named ? `${length} of 11 characters${length > 11 ? `, ${length - 11} too many` : ""}` : `${length} characters`}
            </div>
            <Fault error={save.error} field="sender" />
          </div>
          <Form.Check id="default" className="field" label="The usual one for everything that has no other" checked={all}
            onChange={(e) => fill({ defaults: e.target.checked ? [...form.defaults, { kind: "", country: "" }] : form.defaults.filter((d) => d.kind || d.country) })} />
          <Form.Check id="otp" className="field" label="The usual one for passcodes (otp)" checked={form.defaults.some((d) => d.kind === "otp" && !d.country)}
            onChange={(e) => fill({ defaults: e.target.checked ? [...form.defaults, { kind: "otp", country: "" }] : form.defaults.filter((d) => d.kind !== "otp" || d.country) })} />
          <div className="field">
            <Form.Label htmlFor="countries">Only for these countries</Form.Label>
            <Form.Control id="countries" placeholder="GB IE" value={form.countries} onChange={(e) => fill({ countries: e.target.value })} />
            <Fault error={save.error} field="countries" />
          </div>
          <div className="field">
            <Form.Label htmlFor="gateways">Only through these gateways</Form.Label>
            <Form.Control id="gateways" value={form.gateways} onChange={(e) => fill({ gateways: e.target.value })} />
            <Fault error={save.error} field="gateways" />
          </div>
          <div className="field">
            <Form.Label htmlFor="registrations">Registered, as country=id</Form.Label>
            <Form.Control id="registrations" className="mono" placeholder="IE=IE-LH-0031 AU=AU-LH-0917" value={form.registrations} onChange={(e) => fill({ registrations: e.target.value })} />
            <Fault error={save.error} field="registrations" />
          </div>
          <div className="field">
            <Form.Label htmlFor="pace">Messages a second at most</Form.Label>
            <Form.Control id="pace" inputMode="numeric" placeholder="as many as the gateway takes" value={form.per_second} onChange={(e) => fill({ per_second: e.target.value })} />
            <Fault error={save.error} field="per_second" />
          </div>
          <Form.Check id="two-way" className="field" label="Replies to it reach us" checked={form.two_way} onChange={(e) => fill({ two_way: e.target.checked })} />
          {save.error && <Refused error={save.error} />}
          <Button type="submit" disabled={save.isPending}>{editing ? "Save" : "Add it"}</Button>
          <Button variant="link" onClick={() => setForm(undefined)}>Leave it as it was</Button>
          {editing && <Button variant="link" className="text-danger" disabled={remove.isPending} onClick={() => remove.mutate(form.sender)}>Take it out of use</Button>}
        </Form>
      )}
    </div>
  );
}
