import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { api, got, type Batch, type BatchCourse } from "../../api/client";
import { amount } from "../../parts/amount";
import { colours, states } from "../../parts/states";
import type { Moment } from "../../parts/Chart";

const Chart = lazy(() => import("../../parts/Chart"));

/**
 * How many a second went, until the last one had gone: over three seconds, as how a batch stands is
 * noted a little sooner or later each time, which over one would look like going too fast.
 */
function rates(course: BatchCourse): Moment[] {
  const times = course.points.map((p) => Date.parse(p.at));
  const last = course.points.at(-1)!.gone;
  const over = course.points.findIndex((p) => p.gone === last && Object.keys(p.states).every((s) => s !== "queued" && s !== "held"));
  return course.points.slice(1, over < 0 ? undefined : over + 2).map((p, i) => {
    const at = times[i + 1]!;
    let from = i;
    while (from > 0 && at - times[from]! < 3000) from--;
    const seconds = (at - times[from]!) / 1000;
    return { at, "a second": Math.max(p.gone - course.points[from]!.gone, 0) / Math.max(seconds, 0.1) };
  });
}

/** How a batch has gone until now: how fast, and where its messages were. */
export function Course({ batch }: { batch: Batch }) {
  const { data } = useQuery({
    queryKey: ["batches", batch.id, "course", batch.finished_at],
    queryFn: () => got(api.GET("/v1/batches/{id}/course", { params: { path: { id: batch.id } } })),
    refetchInterval: batch.finished_at ? false : 2000,
  });
  if (!data || data.points.length < 3) return null;
  const present = states.filter((s) => data.points.some((p) => (p.states[s] ?? 0) > 0));
  const stood = data.points.map((p) => (
    { at: Date.parse(p.at), ...Object.fromEntries(present.map((s) => [s, p.states[s] ?? 0])) }) as Moment);
  const drawn = [...present].reverse().map((s) => ({ name: s, colour: colours[s], stacked: true }));
  const limit = data.per_second > 0 ? { at: data.per_second, name: `at most ${amount(Math.round(10 * data.per_second) / 10)}` } : undefined;
  return (
    <Suspense fallback={null}>
      <div className="charts">
        <Chart title="Messages a second" moments={rates(data)} series={[{ name: "a second", colour: "var(--teal)" }]} limit={limit} />
        <Chart title="Where they were" moments={stood} series={drawn} />
      </div>
    </Suspense>
  );
}
