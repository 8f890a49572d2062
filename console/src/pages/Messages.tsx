import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, got, type Tally } from "../api/client";
import { Export } from "../parts/Export";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { TallyBar } from "../parts/TallyBar";
import { states } from "../parts/states";
import { midnight, when } from "../parts/time";
import { countryName } from "../parts/words";

const spans: Record<string, { words: string; hours?: number }> = {
  today: { words: "today", hours: 0 },
  hour: { words: "the last hour", hours: 1 },
  day: { words: "the last 24 hours", hours: 24 },
  week: { words: "the last 7 days", hours: 168 },
  all: { words: "all time" },
};

const uuid = /^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12}$/i;

/** What was typed: a number, the gateway's id, or a reference of one's own. */
function searchFor(typed: string): { to?: string; gateway_ref?: string; reference?: string } {
  const word = typed.trim();
  if (!word || word.startsWith("label:")) return {};
  if (/^(\+|00)[\d\s().-]+$/.test(word)) return { to: word };
  if (word.startsWith("ref:")) return { gateway_ref: word.slice(4).trim() };
  return { reference: word };
}

/** What is chosen by a word of the list of states. */
function stateOf(word: string): Record<string, string> {
  if (word === "contested") return { contested: "true" };
  if (word === "weakly known") return { weak: "true" };
  return word ? { state: word } : {};
}

/** One sentence that says whether anybody is wanted. */
function summary(t: Tally): string {
  const n = (...of: string[]) => of.reduce((sum, s) => sum + (t.states[s] ?? 0), 0);
  if (t.total === 0) return "No messages";
  const moving = n("queued", "sending", "accepted", "enroute");
  const look = n("doubtful", "unknown", "held") + t.contested;
  const failed = n("undeliverable", "expired", "rejected", "cancelled");
  const parts: string[] = [];
  if (look) parts.push(look === 1 ? "1 wants a look" : `${look} want a look`);
  if (failed) parts.push(`${failed} did not arrive`);
  if (moving) parts.push(moving === 1 ? "1 is on its way" : `${moving} are on their way`);
  return parts.join(", ") || "All is well: every message arrived";
}

/** A span that does not end now, in words. */
const between = (from?: string, until?: string) =>
  [from && `from ${when(from)}`, until && `until ${when(until)}`].filter(Boolean).join(" ");

export function Messages() {
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const span = spans[search.get("span") ?? "day"] ?? spans.day!;
  const [from, until] = [search.get("since") ?? undefined, search.get("until") ?? undefined]; // instead of a span
  const [typed, setTyped] = useState(search.get("q") ?? "");
  const [compact, setCompact] = useState(localStorage.getItem("compact") === "yes");
  const [trail, setTrail] = useState<string[]>([]); // the cursors of the pages before
  const box = useRef<HTMLInputElement>(null);

  const state = search.get("state") ?? undefined;
  const kind = (search.get("kind") ?? undefined) as "otp" | "transactional" | "bulk" | undefined;
  const gateway = search.get("gateway") ?? undefined;
  const gateways = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")), staleTime: 60e3 });
  const country = search.get("country") ?? undefined;
  const q = search.get("q") ?? "";
  const label = search.getAll("label");
  const cursor = search.get("cursor") ?? undefined;
  const contested = search.get("contested") === "true" || undefined;
  const weak = search.get("weak") === "true" || undefined;
  // Whole minutes, so that the question stays the same while it is asked.
  const since = from || until ? from : span.hours === undefined ? undefined
    : span.hours ? new Date(Math.floor(Date.now() / 60e3) * 60e3 - span.hours * 3600e3).toISOString() : midnight().toISOString();
  const choice = { ...searchFor(q), kind, gateway, country, since, until, ...(label.length > 0 ? { label } : {}) };
  const limit = compact ? 40 : 25;

  const tally = useQuery({
    queryKey: ["messages", "tally", choice],
    queryFn: () => got(api.GET("/v1/tally", { params: { query: choice } })),
    placeholderData: keepPreviousData,
  });
  const page = useQuery({
    queryKey: ["messages", "page", choice, state, contested, weak, cursor, limit],
    queryFn: () => got(api.GET("/v1/messages", { params: { query: { ...choice, state, contested, weak, cursor, limit } } })),
    placeholderData: keepPreviousData,
  });

  function set(changes: Record<string, string | undefined>) {
    const next = new URLSearchParams(search);
    next.delete("cursor");
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setTrail([]);
    setSearch(next);
  }

  function all() {
    setTyped("");
    const filters = ["q", "state", "kind", "gateway", "country", "contested", "weak", "label"];
    set(Object.fromEntries(filters.map((name) => [name, undefined])));
  }

  function submit() {
    const word = typed.trim();
    if (uuid.test(word)) go(`/messages/${word.toLowerCase()}`);
    else if (word.startsWith("label:")) { setTyped(""); set({ q: undefined, label: word.slice(6).trim() }); }
    else set({ q: word || undefined });
  }

  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key === "/" && !(e.target as HTMLElement).closest("input, textarea, select")) {
        e.preventDefault();
        box.current?.focus();
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, []);

  function turn(to: string | undefined, back: boolean) {
    const next = new URLSearchParams(search);
    if (to) next.set("cursor", to);
    else next.delete("cursor");
    setTrail(back ? trail.slice(0, -1) : [...trail, cursor ?? ""]);
    setSearch(next);
  }

  const tallyLink = (s?: string) => {
    const next = new URLSearchParams(search);
    next.delete("cursor");
    next.delete("contested");
    next.delete("weak");
    if (s) next.set("state", s);
    else next.delete("state");
    return `/messages?${next}`;
  };

  const contestedLink = (() => {
    const next = new URLSearchParams(search);
    next.delete("cursor");
    next.delete("state");
    next.delete("weak");
    next.set("contested", "true");
    return `/messages?${next}`;
  })();

  const messages = page.data?.items ?? [];
  const narrowed = Boolean(state || kind || gateway || country || q || contested || weak || label.length > 0);
  return (
    <div className={compact ? "page compact" : "page"}>
      <h1>
        {tally.data ? summary(tally.data) : "\u00a0"}{" "}
        <span className="quiet fw-normal fs-6">
          {from || until ? between(from, until)
            : span.hours === undefined ? "since the beginning" : span.hours ? `in ${span.words}` : span.words}
        </span>
      </h1>
      {tally.data && <TallyBar tally={tally.data} to={tallyLink} contested={contestedLink} />}
      {(page.error ?? tally.error) && <Refused error={page.error ?? tally.error} />}
      <Form className="filters" onSubmit={(e) => { e.preventDefault(); submit(); }}>
        <Form.Control ref={box} className="search" size="sm" type="search" value={typed} aria-label="Find by number, id or reference"
          placeholder="Number, id, reference or label:   /"
          onChange={(e) => { setTyped(e.target.value); if (!e.target.value) set({ q: undefined }); }} />
        <Form.Select size="sm" aria-label="State" value={contested ? "contested" : weak ? "weakly known" : state ?? ""}
          onChange={(e) => set({ state: undefined, contested: undefined, weak: undefined, ...stateOf(e.target.value) })}>
          <option value="">every state</option>
          {states.map((s) => <option key={s}>{s}</option>)}
          <option>contested</option>
          <option>weakly known</option>
        </Form.Select>
        <Form.Select size="sm" aria-label="Kind" value={kind ?? ""} onChange={(e) => set({ kind: e.target.value || undefined })}>
          <option value="">every kind</option>
          <option>otp</option><option>transactional</option><option>bulk</option>
        </Form.Select>
        {(gateway || (gateways.data?.items.length ?? 0) > 1) && (
          <Form.Select size="sm" aria-label="Gateway" value={gateway ?? ""} onChange={(e) => set({ gateway: e.target.value || undefined })}>
            <option value="">every gateway</option>
            {gateways.data?.items.map((g) => <option key={g.id}>{g.name}</option>)}
          </Form.Select>
        )}
        <Form.Select size="sm" aria-label="Time" value={from || until ? "" : (search.get("span") ?? "day")}
          onChange={(e) => set({ span: e.target.value, since: undefined, until: undefined })}>
          {(from || until) && <option value="">{between(from, until)}</option>}
          {Object.entries(spans).map(([name, s]) => <option key={name} value={name}>{s.words}</option>)}
        </Form.Select>
        {country && <span className="align-self-center">to <b>{countryName(country)}</b></span>}
        {label.length > 0 && <span className="align-self-center">labelled <b>{label.join(", ")}</b></span>}
        {narrowed && <Button size="sm" variant="link" onClick={all}>show all</Button>}
        <Form.Check className="ms-auto" type="switch" id="compact" label="compact" checked={compact}
          onChange={(e) => { setCompact(e.target.checked); localStorage.setItem("compact", e.target.checked ? "yes" : "no"); }} />
      </Form>
      {page.data && messages.length === 0 ? (
        <p className="empty">
          {narrowed ? "No message is like that." : (
            <>
              Messages appear here as soon as they are handed over. <Link to="/send">Send one</Link>, or hand one over
              with <span className="mono">pigeon send</span>.
            </>
          )}
        </p>
      ) : (
        <Table className="messages">
          <thead>
            <tr>
              <th>Created</th><th>State</th><th>To</th><th className="wide">From</th><th className="wide">Kind</th>
              <th className="wide">Text</th><th className="wide">Cause</th>
            </tr>
          </thead>
          <tbody>
            {messages.map((m) => (
              <tr key={m.id} className="chosen" onClick={(e) => { if (!(e.target as HTMLElement).closest("a")) go(`/messages/${m.id}`); }}>
                <td className="mono text-nowrap"><Link to={`/messages/${m.id}`}>{when(m.created_at)}</Link></td>
                <td><StateBadge state={m.state} m={m} /></td>
                <td className="mono text-nowrap">{m.to}</td>
                <td className="wide text-nowrap">{m.sender}</td>
                <td className="wide quiet">{m.kind}</td>
                <td className="text wide" title={m.text}>{m.text}</td>
                <td className="wide quiet text-nowrap">{m.cause.replaceAll("_", " ")}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <div className="pager">
        {trail.length > 0 && <Button size="sm" variant="link" className="p-0" onClick={() => turn(trail.at(-1) || undefined, true)}>newer</Button>}
        {page.data?.next && <Button size="sm" variant="link" className="p-0" onClick={() => turn(page.data.next, false)}>older</Button>}
      </div>
      {messages.length > 0 && <Export list="messages" query={{ ...choice, state, contested, weak }} />}
    </div>
  );
}
