import Table from "react-bootstrap/Table";
import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import type { ArrivalBar } from "../api/client";
import { amount } from "./amount";
import { roughly } from "./time";

/** What a bar is about. */
function between(b: ArrivalBar): string {
  if (b.from_ms === 0) return `below ${roughly(b.to_ms ?? 0)}`;
  return b.to_ms === null ? `${roughly(b.from_ms)} or more` : `${roughly(b.from_ms)} to ${roughly(b.to_ms)}`;
}

/** How many took how long, drawn and as a table. Each bar is twice as long a time as the one before. */
export default function Bars({ title, bars }: { title: string; bars: ArrivalBar[] }) {
  if (bars.length === 0) return null;
  const drawn = bars.map((b) => ({ ...b, name: roughly(b.from_ms), between: between(b) }));
  const tick = { fill: "var(--quiet)", fontSize: 12 };
  return (
    <figure className="chart">
      <figcaption>{title}</figcaption>
      <div role="img" aria-label={`${title}: ${drawn.map((b) => `${b.between}, ${amount(b.n)}`).join("; ")}`}>
        <ResponsiveContainer width="100%" height={170}>
          <BarChart data={drawn} margin={{ top: 8, right: 12, bottom: 0, left: 0 }} barCategoryGap={1} accessibilityLayer={false}>
            <CartesianGrid vertical={false} stroke="var(--line)" />
            <XAxis dataKey="name" tick={tick} stroke="var(--line)" tickLine={false} interval="equidistantPreserveStart" />
            <YAxis
              width={56}
              tick={tick}
              stroke="var(--line)"
              tickLine={false}
              axisLine={false}
              tickCount={4}
              allowDecimals={false}
              tickFormatter={amount}
            />
            <Tooltip
              isAnimationActive={false}
              cursor={{ fill: "var(--plum-tint)" }}
              formatter={(n) => [amount(Number(n)), "messages"]}
              labelFormatter={(_, shown) => (shown[0]?.payload as { between?: string } | undefined)?.between ?? ""}
              contentStyle={{ background: "var(--surface)", border: "1px solid var(--line)" }}
              labelStyle={{ color: "var(--quiet)" }}
            />
            <Bar dataKey="n" fill="var(--teal)" isAnimationActive={false} />
          </BarChart>
        </ResponsiveContainer>
      </div>
      <details>
        <summary className="quiet">As a table</summary>
        <Table size="sm" className="w-auto">
          <thead>
            <tr>
              <th>Took</th>
              <th className="text-end">Messages</th>
            </tr>
          </thead>
          <tbody>
            {drawn.map((b) => (
              <tr key={b.from_ms}>
                <td>{b.between}</td>
                <td className="text-end">{amount(b.n)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </details>
    </figure>
  );
}
