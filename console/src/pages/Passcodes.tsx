import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type PasscodeFared, type PasscodeFunnel } from "../api/client";
import type { Moment } from "../parts/Chart";
import { amount } from "../parts/amount";
import { Refused } from "../parts/Refused";
import { roughly } from "../parts/time";
import { countryName } from "../parts/words";
import { Alarms, Rules } from "./PasscodeAlarms";
import { Blocks, Limits } from "./PasscodeLimits";
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
