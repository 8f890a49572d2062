import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type ArrivalGroup, type Arrivals as Told } from "../api/client";
import type { Moment } from "../parts/Chart";
import { amount } from "../parts/amount";
import { Refused } from "../parts/Refused";
import { Spark } from "../parts/Spark";
import { countryName } from "../parts/words";
import { roughly } from "../parts/time";

const Chart = lazy(() => import("../parts/Chart"));
const Bars = lazy(() => import("../parts/Bars"));

const spans: Record<string, { words: string; hours: number }> = {
  day: { words: "the last 24 hours", hours: 24 },
  week: { words: "the last 7 days", hours: 168 },
  month: { words: "the last 30 days", hours: 720 },
};

type By = "gateway" | "country" | "kind";

const percent = (rate: number) => `${(100 * rate).toFixed(1)} %`;

const took = (ms: number | null) => (ms === null ? "" : roughly(ms));

/** One sentence that says how it goes. */
function summary(all: ArrivalGroup): string {
  if (all.arrived === 0 || all.p50_ms === null || all.p90_ms === null) return "Nothing arrived";
  const rate = all.delivery_rate === null ? "" : `; ${percent(all.delivery_rate)} are delivered`;
  return `Half arrive within ${roughly(all.p50_ms)}, nine in ten within ${roughly(all.p90_ms)}${rate}`;
}

/** Every hour or day of the span, also those of which nothing is known. */
function steps(told: Told): number[] {
  const step = told.step === "day" ? 86400e3 : 3600e3;
  const [from, until] = [Date.parse(told.since), Date.parse(told.until)];
  return Array.from({ length: Math.round((until - from) / step) }, (_, i) => from + i * step);
}

function Side({ told, by, to, only }: { told: Told; by: By; to: (g: ArrivalGroup) => string; only: (g: ArrivalGroup) => string }) {
  const all = steps(told);
  const name = (g: ArrivalGroup) => (by === "gateway" ? g.gateway : by === "country" ? countryName(g.country) : g.kind);
  const line = (g: ArrivalGroup) => {
    const at = new Map(g.course.map((f) => [Date.parse(f.at), f.p50_ms]));
    return all.map((t) => at.get(t) ?? null);
  };
  const reach = (g: ArrivalGroup) => {
    const halves = g.course.flatMap((f) => f.p50_ms ?? []);
    return `from ${took(Math.min(...halves))} to ${took(Math.max(0, ...halves))}`;
  };
  return (
    <Table className="dense">
      <thead>
        <tr>
          <th>{by === "kind" ? "Kind" : by === "country" ? "Country" : "Gateway"}</th>
          <th className="text-end">Messages</th>
          <th className="text-end">Delivered</th>
          <th className="text-end">Half within</th>
          <th className="text-end">9 in 10</th>
          <th className="text-end wide">99 in 100</th>
          <th className="wide">Half within, over time</th>
        </tr>
      </thead>
      <tbody>
        {told.groups.map((g) => (
          <tr key={name(g)}>
            <td>
              <Link to={only(g)}>{name(g)}</Link>
            </td>
            <td className="text-end">
              <Link to={to(g)}>{amount(g.messages)}</Link>
            </td>
            <td className="text-end">{g.delivery_rate === null ? "" : percent(g.delivery_rate)}</td>
            <td className="text-end">{took(g.p50_ms)}</td>
            <td className="text-end">{took(g.p90_ms)}</td>
            <td className="text-end wide">{took(g.p99_ms)}</td>
            <td className="wide">
              <Spark
                values={line(g)}
                label={reach(g)}
              />
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** How long messages take, and how many arrive: side by side, over time, and as a histogram. */
export function Arrivals() {
  const [search, setSearch] = useSearchParams();
  const span = spans[search.get("span") ?? "day"] ? (search.get("span") ?? "day") : "day";
  const gateway = search.get("gateway") ?? undefined;
  const country = search.get("country") ?? undefined;
  const kind = (search.get("kind") ?? undefined) as "otp" | "transactional" | "bulk" | undefined;
  const by = (search.get("by") ?? (gateway ? "country" : "gateway")) as By;
  const gateways = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")), staleTime: 60e3 });
  const since = new Date(Math.floor(Date.now() / 3600e3) * 3600e3 - (spans[span]!.hours - 1) * 3600e3).toISOString();
  const choice = { since, by, gateway, country, kind };
  const { data, error } = useQuery({
    queryKey: ["arrivals", choice],
    queryFn: () => got(api.GET("/v1/arrivals", { params: { query: choice } })),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const address = (changes: Record<string, string | undefined>) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    return next;
  };
  const set = (changes: Record<string, string | undefined>) => setSearch(address(changes));
  const messages = (g: ArrivalGroup) => {
    const q = new URLSearchParams({ span: span === "month" ? "all" : span });
    const [gw, c, k] = [g.gateway || gateway, g.country || country, g.kind || kind];
    if (gw) q.set("gateway", gw);
    if (c) q.set("country", c);
    if (k) q.set("kind", k);
    return `/messages?${q}`;
  };
  const only = (g: ArrivalGroup) =>
    `/arrivals?${address({ gateway: g.gateway || gateway, country: g.country || country, kind: g.kind || kind, by: undefined })}`;
  const moments: Moment[] = (data?.all.course ?? [])
    .filter((f) => f.p50_ms !== null)
    .map((f) => ({ at: Date.parse(f.at), "half within": f.p50_ms! / 1000, "9 in 10 within": f.p90_ms! / 1000 }) as Moment);
  const rates: Moment[] = (data?.all.course ?? [])
    .filter((f) => f.delivery_rate !== null)
    .map((f) => ({ at: Date.parse(f.at), delivered: 100 * f.delivery_rate! }) as Moment);
  const narrowed = Boolean(gateway || country || kind);
  return (
    <div className="page">
      <p className="mb-1">
        <Link to="/">Today</Link>
      </p>
      <h1>
        {data ? summary(data.all) : " "} <span className="quiet fw-normal fs-6">in {spans[span]!.words}</span>
      </h1>
      <p className="quiet">From the beginning of a submission until it was known that the message arrived, by our own clock.</p>
      <div className="filters">
        <Form.Select size="sm" aria-label="Time" value={span} onChange={(e) => set({ span: e.target.value })}>
          {Object.entries(spans).map(([name, s]) => (
            <option key={name} value={name}>
              {s.words}
            </option>
          ))}
        </Form.Select>
        <Form.Select
          size="sm"
          aria-label="Gateway"
          value={gateway ?? ""}
          onChange={(e) => set({ gateway: e.target.value || undefined, by: undefined })}
        >
          <option value="">every gateway</option>
          {gateways.data?.items.map((g) => (
            <option key={g.id}>{g.name}</option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="Kind" value={kind ?? ""} onChange={(e) => set({ kind: e.target.value || undefined })}>
          <option value="">every kind</option>
          <option>otp</option>
          <option>transactional</option>
          <option>bulk</option>
        </Form.Select>
        <Form.Select size="sm" aria-label="Side by side" value={by} onChange={(e) => set({ by: e.target.value })}>
          <option value="gateway">gateways side by side</option>
          <option value="country">countries side by side</option>
          <option value="kind">kinds side by side</option>
        </Form.Select>
        {country && (
          <span className="align-self-center">
            to <b>{countryName(country)}</b>
          </span>
        )}
        {narrowed && (
          <Link className="align-self-center" to={`/arrivals?span=${span}`}>
            show all
          </Link>
        )}
      </div>
      {error && !data && <Refused error={error} />}
      {data && data.groups.length === 0 && (
        <p className="empty">Nothing went in this time. As soon as messages arrive it stands here how long they took.</p>
      )}
      {data && data.groups.length > 0 && (
        <>
          <Side told={data} by={by} to={messages} only={only} />
          <Suspense fallback={null}>
            <div className="charts">
              <Chart
                title="Seconds until they arrived"
                moments={moments}
                format={(n) => String(Math.round(10 * n) / 10)}
                series={[
                  { name: "half within", colour: "var(--teal)" },
                  { name: "9 in 10 within", colour: "var(--plum)" },
                ]}
              />
              <Bars title={`How long ${amount(data.all.arrived)} took`} bars={data.all.histogram} />
              <Chart
                title="Percent delivered, by when they were accepted"
                moments={rates}
                format={(n) => String(Math.round(10 * n) / 10)}
                from={(low) => Math.floor(Math.min(low, 90) / 10) * 10}
                top={100}
                series={[{ name: "delivered", colour: "var(--teal)" }]}
              />
            </div>
          </Suspense>
        </>
      )}
    </div>
  );
}
