import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type PasscodeBlock, type PasscodeFared, type PasscodeFunnel, type PasscodeLimit } from "../api/client";
import type { Moment } from "../parts/Chart";
import { amount } from "../parts/amount";
import { Fault, Refused } from "../parts/Refused";
import { roughly, when } from "../parts/time";
import { countryName } from "../parts/words";
import { Alarms, Rules } from "./PasscodeAlarms";
import { LastPasscodes } from "./PasscodePage";

const Chart = lazy(() => import("../parts/Chart"));

const spans: Record<string, { words: string; hours: number }> = {
  day: { words: "the last 24 hours", hours: 24 },
  week: { words: "the last 7 days", hours: 168 },
  month: { words: "the last 30 days", hours: 720 },
};

const bys = { gateway: "Gateway", country: "Country", purpose: "Purpose", template: "Template" } as const;

type By = keyof typeof bys;

const percent = (rate: number | null) => (rate === null ? "" : `${(100 * rate).toFixed(1)} %`);

/** One sentence that says how it goes. */
function summary(all: PasscodeFared): string {
  if (all.issued === 0) return "No passcodes were issued";
  const took = all.took.right === null ? "" : `, half of them within ${roughly(all.took.right.p50_ms)}`;
  return `${amount(all.right)} of ${amount(all.issued)} passcodes were used${took}`;
}

/** How far they came: a bar for each step, as long as its share of those that were issued. */
function Steps({ all }: { all: PasscodeFared }) {
  const steps: [string, number, { p50_ms: number; p90_ms: number } | null][] = [
    ["issued", all.issued, null],
    ["texts accepted", all.accepted, all.took.accepted],
    ["texts delivered", all.delivered, all.took.delivered],
    ["checked", all.checked, all.took.checked],
    ["right", all.right, all.took.right],
  ];
  const most = Math.max(...steps.map(([, n]) => n), 1);
  return (
    <dl className="funnel">
      {steps.map(([name, n, took]) => (
        <div key={name}>
          <dt>{name}</dt>
          <dd>
            <span className="length" style={{ width: `calc((100% - var(--beside)) * ${n / most})` }} aria-hidden="true" />
            {amount(n)}
            {took && (
              <span className="quiet took">
                half within {roughly(took.p50_ms)}, nine in ten {roughly(took.p90_ms)}
              </span>
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Side({ r, by, span }: { r: PasscodeFunnel; by: By; span: string }) {
  const name = (g: PasscodeFared) =>
    (by === "country" ? countryName(g.country) : g[by]) || <span className="quiet">the text that ships</span>;
  const messages = (g: PasscodeFared) => {
    const q = new URLSearchParams({ span: span === "month" ? "all" : span, label: g.purpose ? `passcode=${g.purpose}` : "passcode" });
    if (g.gateway) q.set("gateway", g.gateway);
    if (g.country) q.set("country", g.country);
    return `/messages?${q}`;
  };
  return (
    <Table className="dense">
      <thead>
        <tr>
          <th>{bys[by]}</th>
          {["Issued", "Sent again", "Delivered", "Checked", "Right", "Of issued"].map((h) => (
            <th key={h} className="text-end">
              {h}
            </th>
          ))}
          <th className="text-end wide">Half within</th>
          <th className="text-end wide">9 in 10</th>
        </tr>
      </thead>
      <tbody>
        {r.groups.map((g, i) => (
          <tr key={i}>
            <td>{name(g)}</td>
            <td className="text-end">{amount(g.issued)}</td>
            <td className="text-end">{amount(g.again)}</td>
            <td className="text-end">
              <Link to={messages(g)}>{amount(g.delivered)}</Link>
            </td>
            <td className="text-end">{amount(g.checked)}</td>
            <td className="text-end">{amount(g.right)}</td>
            <td className="text-end">{percent(g.conversion)}</td>
            <td className="text-end wide">{g.took.right && roughly(g.took.right.p50_ms)}</td>
            <td className="text-end wide">{g.took.right && roughly(g.took.right.p90_ms)}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** How many were issued and used, hour by hour or day by day. */
function Course({ since, daily }: { since: string; daily: boolean }) {
  const { data } = useQuery({
    queryKey: ["passcode funnel", since, "hour"],
    queryFn: () => got(api.GET("/v1/passcode-funnel", { params: { query: { since, by: "hour" } } })),
    refetchInterval: 15000,
    placeholderData: keepPreviousData,
  });
  if (!data) return null;
  const step = daily ? 86400e3 : 3600e3;
  const known = new Map(data.groups.map((g) => [Date.parse(g.at ?? ""), g]));
  const from = Date.parse(data.since);
  const moments: Moment[] = Array.from({ length: Math.round((Date.parse(data.until) - from) / step) }, (_, i) => {
    const at = from + i * step;
    return { at, issued: known.get(at)?.issued ?? 0, used: known.get(at)?.right ?? 0 };
  });
  return (
    <Suspense fallback={<div style={{ height: 220 }} />}>
      <Chart
        title={daily ? "Issued and used, day by day" : "Issued and used, hour by hour"}
        moments={moments}
        series={[
          { name: "issued", colour: "var(--plum)" },
          { name: "used", colour: "var(--teal)" },
        ]}
      />
    </Suspense>
  );
}

const things: Record<PasscodeLimit["by"], string> = {
  number: "a number",
  address: "an address",
  network: "a network",
  range: "a range of 1,000 numbers",
  stretch: "a stretch of 100,000 numbers",
  purpose: "a purpose",
  country: "a country",
  key: "a key",
};

function Limits() {
  const queries = useQueryClient();
  const [form, setForm] = useState({ by: "number" as PasscodeLimit["by"], window: "hour" as PasscodeLimit["window"], most: "" });
  const { data, error } = useQuery({ queryKey: ["passcode limits"], queryFn: () => got(api.GET("/v1/passcode-limits")) });
  const same = (l: PasscodeLimit) => l.by === form.by && l.window === form.window;
  const set = useMutation({
    mutationFn: (usual: boolean) => {
      const items = (data?.items ?? []).filter((l) => l.set && !same(l)).map(({ by, window, most }) => ({ by, window, most }));
      if (!usual) items.push({ by: form.by, window: form.window, most: form.most === "" ? null : Number(form.most) });
      return got(api.PUT("/v1/passcode-limits", { body: { items } }));
    },
    onSuccess: (now) => queries.setQueryData(["passcode limits"], now),
  });
  const by = new Map<PasscodeLimit["by"], PasscodeLimit[]>();
  for (const l of data?.items ?? []) by.set(l.by, [...(by.get(l.by) ?? []), l]);
  const change = (to: Partial<typeof form>) => {
    set.reset();
    setForm({ ...form, ...to });
  };
  return (
    <section className="mt-4">
      <h2>Limits</h2>
      {(error ?? set.error) && <Refused error={error ?? set.error} />}
      <ul className="plain">
        {[...by].map(([what, all]) => (
          <li key={what}>
            For {things[what]}:{" "}
            {all.map((l) => `${l.most === null ? "no limit" : amount(l.most)} a${l.window === "hour" ? "n" : ""} ${l.window}`).join(", ")}
            {all.some((l) => l.set) && <span className="quiet"> (set)</span>}
          </li>
        ))}
      </ul>
      <p className="quiet mb-2">No window, wherever it begins, holds more.</p>
      <Form
        className="filters"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate(false);
        }}
      >
        <Form.Select
          size="sm"
          aria-label="For each"
          value={form.by}
          onChange={(e) => change({ by: e.target.value as PasscodeLimit["by"] })}
        >
          {Object.entries(things).map(([what, says]) => (
            <option key={what} value={what}>
              for {says}
            </option>
          ))}
        </Form.Select>
        <Form.Control
          size="sm"
          type="number"
          min={0}
          max={1000000}
          style={{ width: "7rem" }}
          aria-label="At most; nothing for no limit"
          placeholder="no limit"
          value={form.most}
          onChange={(e) => change({ most: e.target.value })}
        />
        <Form.Select
          size="sm"
          aria-label="In a"
          value={form.window}
          onChange={(e) => change({ window: e.target.value as PasscodeLimit["window"] })}
        >
          {["minute", "hour", "day"].map((w) => (
            <option key={w} value={w}>
              {w === "hour" ? "an" : "a"} {w}
            </option>
          ))}
        </Form.Select>
        <Button size="sm" type="submit" disabled={set.isPending || !data}>
          Set
        </Button>
        {data?.items.some((l) => l.set && same(l)) && (
          <Button size="sm" variant="link" disabled={set.isPending} onClick={() => set.mutate(true)}>
            As usual
          </Button>
        )}
      </Form>
    </section>
  );
}

function Blocks() {
  const queries = useQueryClient();
  const [form, setForm] = useState({ what: "number", value: "", for: "24h", why: "" });
  const { data, error } = useQuery({
    queryKey: ["passcode blocks"],
    queryFn: () => got(api.GET("/v1/passcode-blocks")),
    refetchInterval: 5000,
  });
  const done = () => void queries.invalidateQueries({ queryKey: ["passcode blocks"] });
  const lift = useMutation({
    mutationFn: (b: PasscodeBlock) => got(api.POST("/v1/passcode-blocks/{id}/lift", { params: { path: { id: b.id } }, body: {} })),
    onSuccess: done,
  });
  const add = useMutation({
    mutationFn: () => got(api.POST("/v1/passcode-blocks", { body: form as never })),
    onSuccess: () => {
      setForm({ ...form, value: "", why: "" });
      done();
    },
  });
  const field = (name: "value" | "for" | "why", label: string, hint: string) => (
    <div>
      <Form.Control
        size="sm"
        aria-label={label}
        placeholder={hint}
        value={form[name]}
        onChange={(e) => {
          add.reset();
          setForm({ ...form, [name]: e.target.value });
        }}
      />
      <Fault error={add.error} field={name} />
    </div>
  );
  return (
    <section className="mt-4">
      <h2>Blocked</h2>
      {(error ?? lift.error) && <Refused error={error ?? lift.error} />}
      {data && data.items.length === 0 && (
        <p className="quiet">Nothing is. What is blocked gets no passcodes, until it is lifted or its time is over.</p>
      )}
      {data && data.items.length > 0 && (
        <Table className="dense">
          <thead>
            <tr>
              <th>What</th>
              <th>Until</th>
              <th>By</th>
              <th className="wide">Why</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {data.items.map((b) => (
              <tr key={b.id}>
                <td>
                  {b.what} <span className="mono">{b.value}</span>
                </td>
                <td>{b.until ? when(b.until) : "for good"}</td>
                <td>{b.by}</td>
                <td className="wide">{b.why}</td>
                <td className="text-end">
                  <Button size="sm" variant="link" className="p-0" disabled={lift.isPending} onClick={() => lift.mutate(b)}>
                    Lift
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <Form
        className="filters"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Form.Select
          size="sm"
          aria-label="What"
          value={form.what}
          onChange={(e) => {
            add.reset();
            setForm({ ...form, what: e.target.value });
          }}
        >
          {["number", "range", "stretch", "country", "address", "network"].map((w) => (
            <option key={w}>{w}</option>
          ))}
        </Form.Select>
        {field("value", "Value", "which one")}
        {field("for", "For how long", "for good")}
        {field("why", "Why", "why")}
        <Button size="sm" type="submit" disabled={add.isPending || !form.value}>
          Block
        </Button>
      </Form>
    </section>
  );
}

/** How passcodes fare, and what holds for them. */
export function Passcodes() {
  const [search, setSearch] = useSearchParams();
  const span = spans[search.get("span") ?? ""] ? search.get("span")! : "day";
  const by = (bys[search.get("by") as By] ? search.get("by") : "gateway") as By;
  const since = new Date(Math.floor(Date.now() / 3600e3) * 3600e3 - (spans[span]!.hours - 1) * 3600e3).toISOString();
  const { data, error } = useQuery({
    queryKey: ["passcode funnel", since, by],
    queryFn: () => got(api.GET("/v1/passcode-funnel", { params: { query: { since, by } } })),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(search);
    next.set(name, value);
    setSearch(next);
  };
  return (
    <div className="page">
      <h1>
        {data ? summary(data.all) : "\u00a0"} <span className="quiet fw-normal fs-6">in {spans[span]!.words}</span>
      </h1>
      <div className="filters">
        <Form.Select size="sm" aria-label="Time" value={span} onChange={(e) => set("span", e.target.value)}>
          {Object.entries(spans).map(([name, s]) => (
            <option key={name} value={name}>
              {s.words}
            </option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="Side by side" value={by} onChange={(e) => set("by", e.target.value)}>
          {Object.entries(bys).map(([name, word]) => (
            <option key={name} value={name}>
              by {word.toLowerCase()}
            </option>
          ))}
        </Form.Select>
      </div>
      <Alarms />
      {error && !data && <Refused error={error} />}
      {data && data.all.issued === 0 && (
        <p className="empty">
          One-time passwords stand here by how many are sent, arrive, and are used. Send one with{" "}
          <span className="mono">pigeon passcode issue +447700900123 --purpose sign-in</span>.
        </p>
      )}
      {data && data.all.issued > 0 && (
        <>
          <Steps all={data.all} />
          <Side r={data} by={by} span={span} />
          <Course since={since} daily={spans[span]!.hours > 192} />
          <LastPasscodes />
        </>
      )}
      <Rules />
      <Limits />
      <Blocks />
    </div>
  );
}
