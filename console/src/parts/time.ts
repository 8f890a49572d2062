const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const hour = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

/** A time of day, with the date in front unless it is today. */
export function when(iso: string): string {
  const t = new Date(iso);
  const today = t.toDateString() === new Date().toDateString();
  return today ? hour.format(t) : `${day.format(t)} ${hour.format(t)}`;
}

/** A time of day to the millisecond. */
export function precisely(iso: string): string {
  const t = new Date(iso);
  return `${hour.format(t)}.${String(t.getMilliseconds()).padStart(3, "0")}`;
}
