import type { components } from "../api/schema.gen";

const number = new Intl.NumberFormat("en-GB");

/** A number with commas. */
export const amount = (n: number) => number.format(n);

export const segments = (n: number) => (n === 1 ? "1 segment" : `${amount(n)} segments`);

/** Sums of money in words. */
export const sums = (all: components["schemas"]["Money"][]) =>
  all.length === 0 ? "price not known" : all.map((m) => `${m.amount} ${m.currency}`).join(" + ");

type Sum = components["schemas"]["Money"];

/** Writes amounts of one report alike, so that they can stand below each other. */
export interface Figures {
  (m: Sum): string;
  /** Of all of them; empty if they differ, and each is named. */
  currency: string;
}

/** In cents, and where there are fractions of them, in hundredths of a cent, which sums are rounded to. */
export function figures(all: Sum[]): Figures {
  const places = all.some((m) => (m.amount.split(".")[1] ?? "").length > 2) ? 4 : 2;
  const currencies = new Set(all.map((m) => m.currency));
  const currency = currencies.size === 1 ? [...currencies][0]! : "";
  const format = new Intl.NumberFormat("en-GB", { minimumFractionDigits: places, maximumFractionDigits: places });
  const write = (m: Sum) => `${format.format(Number(m.amount))}${currency ? "" : ` ${m.currency}`}`;
  return Object.assign(write, { currency });
}
