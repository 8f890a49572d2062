import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { api, got, type Batch, type BatchForecast, type LaunchGiven } from "../../api/client";
import { amount } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { lasting, when } from "../../parts/time";
import type { Moment } from "../../parts/Chart";

const Chart = lazy(() => import("../../parts/Chart"));

/** What holds a batch back, in words. */
function bounds(f: BatchForecast) {
  const word = { pace: "its own pace", service: "what this service carries" } as Record<string, string>;
  const tight = f.bounds.filter((b) => b.share >= 0.01);
  return tight.map((b) => `${word[b.kind] ?? `${b.kind} ${b.name}`} (${Math.round(100 * b.share)}%)`).join(", ");
}

/** How long until one has stopped typing. */
const pause = 400;

function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  const now = JSON.stringify(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(JSON.parse(now) as T), pause);
    return () => clearTimeout(timer);
  }, [now]);
  return settled;
}

/** When a batch would end, or ends, and what holds it back. */
export function Forecast({ batch, launch }: { batch: Batch; launch: LaunchGiven }) {
  const going = Boolean(batch.tally);
  const asked = useSettled(launch);
  const { data: f, error } = useQuery({
    queryKey: ["batches", batch.id, "forecast", batch.state, asked],
    queryFn: () => got(api.POST("/v1/batches/{id}/forecast", { params: { path: { id: batch.id } }, body: asked })),
    refetchInterval: going ? 5000 : 15_000,
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (error) return going ? null : <Refused error={error} />;
  if (!f) return null;
  const moments = f.curve.map((p) => ({ at: Date.parse(p.at), gone: p.gone }) as Moment);
  return (
    <div className="forecast">
      {f.starts_at && f.ends_at ? (
        <p role="status">
          {going ? <>It ends at <b>{when(f.ends_at)}</b></> : (
            <>
              {amount(f.goes)} messages take <b>{lasting(Date.parse(f.ends_at) - Date.parse(f.starts_at))}</b>,
              from {when(f.starts_at)} to {when(f.ends_at)}
            </>
          )}
          {going && f.first && <>; at its launch that was forecast for {when(f.first)}</>}.
          {f.bounds.length > 0 && <span className="quiet"> Held back by {bounds(f)}.</span>}
        </p>
      ) : <p className="notice look">None of it goes as things stand.</p>}
      {f.left > 0 && <p className="notice look">{amount(f.left)} would not go: the time is over before, or no gateway takes them.</p>}
      {f.waiting > 0 && (
        <p className="quiet">{amount(f.waiting)} rows wait for the scouts until they are released; this is as if that were at once.</p>
      )}
      {!going && moments.length > 1 && (
        <Suspense fallback={null}>
          <Chart title="Messages gone, as forecast" moments={moments} series={[{ name: "gone", colour: "var(--teal)" }]} />
        </Suspense>
      )}
    </div>
  );
}
