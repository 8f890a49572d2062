import Table from "react-bootstrap/Table";
import { Area, CartesianGrid, ComposedChart, Line, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { amount } from "./amount";
import { span } from "./time";

/** Values at a moment, in milliseconds since 1970; each by the name of its series. */
export type Moment = { at: number } & Record<string, number>;

export interface Series {
  name: string;
  colour: string;
  /** Stacked on those before; else a line by itself. */
  stacked?: boolean;
}

const rows = 40;

/** Every so many of the moments, the last one among them. */
function some(moments: Moment[]) {
  const step = Math.ceil(moments.length / rows);
  return moments.filter((_, i) => i % step === 0 || i === moments.length - 1);
}

/** The same as figures. */
function Figures({ moments, series, format }: { moments: Moment[]; series: Series[]; format: (n: number) => string }) {
  const clock = span(moments);
  return (
    <details>
      <summary className="quiet">As a table</summary>
      <Table size="sm" className="w-auto">
        <thead><tr><th>Time</th>{series.map((s) => <th key={s.name} className="text-end">{s.name}</th>)}</tr></thead>
        <tbody>
          {some(moments).map((m) => (
            <tr key={m.at}>
              <td>{clock(m.at)}</td>
              {series.map((s) => <td key={s.name} className="text-end">{format(m[s.name] ?? 0)}</td>)}
            </tr>
          ))}
        </tbody>
      </Table>
    </details>
  );
}

const whole = (n: number) => amount(Math.round(n));

/**
 * Series over time, drawn and as a table. `limit` is a line that they should stay below; `format` writes a
 * figure, as a whole number if it is not given. The drawing goes from `from`, given the lowest value, or 0, to `top`.
 */
export default function Chart({ title, moments, series, limit, format = whole, from, top }: {
  title: string; moments: Moment[]; series: Series[]; limit?: { at: number; name: string };
  format?: (n: number) => string; from?: (low: number) => number; top?: number;
}) {
  if (moments.length < 2) return null;
  const clock = span(moments);
  const [first, last] = [moments[0]!.at, moments.at(-1)!.at];
  const ticks = Array.from({ length: 5 }, (_, i) => first + ((last - first) * i) / 4);
  const tick = { fill: "var(--quiet)", fontSize: 12 };
  return (
    <figure className="chart">
      <figcaption>
        {title}
        {series.length > 1 && series.map((s) => <span key={s.name} className="key"><i style={{ background: s.colour }} />{s.name}</span>)}
        {limit && <span className="key"><i className="dashed" />{limit.name}</span>}
      </figcaption>
      <div role="img" aria-label={`${title}, from ${clock(first)} to ${clock(last)}`}>
        <ResponsiveContainer width="100%" height={170}>
          <ComposedChart data={moments} margin={{ top: 8, right: 12, bottom: 0, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid vertical={false} stroke="var(--line)" />
            <XAxis dataKey="at" type="number" scale="time" domain={["dataMin", "dataMax"]} tickFormatter={clock} tick={tick}
              ticks={ticks} stroke="var(--line)" tickLine={false} interval="preserveStartEnd" />
            <YAxis width={56} tick={tick} stroke="var(--line)" tickLine={false} axisLine={false} tickCount={4} allowDecimals={false}
              tickFormatter={amount} domain={[from ?? 0, top ?? ((most: number) => Math.ceil(Math.max(most, limit?.at ?? 0)))]} />
            <Tooltip isAnimationActive={false} labelFormatter={(at) => clock(Number(at))}
              formatter={(n) => format(Number(n))} cursor={{ stroke: "var(--plum)" }}
              contentStyle={{ background: "var(--surface)", border: "1px solid var(--line)" }} labelStyle={{ color: "var(--quiet)" }} />
            {series.map((s) => s.stacked
              ? <Area key={s.name} dataKey={s.name} stackId="all" stroke="none" fill={s.colour} fillOpacity={1} isAnimationActive={false} />
              : <Line key={s.name} dataKey={s.name} stroke={s.colour} strokeWidth={2} dot={false} isAnimationActive={false} />)}
            {limit && <ReferenceLine y={limit.at} stroke="var(--quiet)" strokeDasharray="5 4" />}
          </ComposedChart>
        </ResponsiveContainer>
      </div>
      <Figures moments={moments} series={series} format={format} />
    </figure>
  );
}
