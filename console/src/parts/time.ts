const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const hour = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

/** A time of day, with the date in front unless it is today. */
export function when(iso: string): string {
  const t = new Date(iso);
  const today = t.toDateString() === new Date().toDateString();
  return today ? hour.format(t) : `${day.format(t)} ${hour.format(t)}`;
}

/** When today began. */
export function midnight(): Date {
  const t = new Date();
  t.setHours(0, 0, 0, 0);
  return t;
}

/** The end of an id, which tells it from the others of its moment. */
export const brief = (id: string) => `…${id.slice(-12)}`;

const units = [["h", "h", 3600e3], ["m", "min", 60e3], ["s", "s", 1e3], ["ms", "ms", 1]] as const;

/** A span of time as the service writes it (1m30s), for people (1 min 30 s). */
export function spanWords(span: string): string {
  const of = (unit?: string) => units.find(([u]) => u === unit)?.[2] ?? 0;
  const ms = [...span.matchAll(/([\d.]+)(ms|h|m|s)/g)].reduce((sum, [, n, unit]) => sum + Number(n) * of(unit), 0);
  const said: string[] = [];
  let rest = ms;
  if (rest >= 86400e3) {
    const days = Math.floor(rest / 86400e3);
    said.push(days === 1 ? "1 day" : `${days} days`);
    rest -= days * 86400e3;
  }
  for (const [, word, of] of units) {
    const n = Math.floor(rest / of);
    if (n && said.length < 2 && !(said.length && of === 1)) said.push(`${n} ${word}`);
    rest -= n * of;
  }
  return said.join(" ") || "0 s";
}

/** How long something takes, for people. */
export const lasting = (ms: number) => (ms < 60e3 ? `${(ms / 1e3).toFixed(1)} s` : spanWords(`${Math.round(ms / 1e3)}s`));

/** How long something takes, to two figures or so: 420 ms, 4.2 s, 41 s, 12 min, 5 h, 3 days. */
export function roughly(ms: number): string {
  if (ms < 1e3) return `${Math.round(ms)} ms`;
  if (ms < 10e3) return `${(ms / 1e3).toFixed(1)} s`;
  if (ms < 120e3) return `${Math.round(ms / 1e3)} s`;
  if (ms < 120 * 60e3) return `${Math.round(ms / 60e3)} min`;
  return ms < 48 * 3600e3 ? `${Math.round(ms / 3600e3)} h` : `${Math.round(ms / 86400e3)} days`;
}

/** Writes moments within a span so that they can be told apart, and no closer. */
export function span(moments: { at: number }[]): (at: number) => string {
  const [first, last] = [moments[0]?.at ?? 0, moments.at(-1)?.at ?? 0];
  const form = new Intl.DateTimeFormat("en-GB", {
    hour: "2-digit", minute: "2-digit",
    ...(last - first < 3600e3 ? { second: "2-digit" } : {}), ...(last - first > 20 * 3600e3 ? { day: "numeric", month: "short" } : {}),
  });
  return (at) => form.format(at);
}

/** A time of day to the millisecond. */
export function precisely(iso: string): string {
  const t = new Date(iso);
  return `${hour.format(t)}.${String(t.getMilliseconds()).padStart(3, "0")}`;
}
