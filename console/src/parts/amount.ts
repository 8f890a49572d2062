import type { components } from "../api/schema.gen";

const number = new Intl.NumberFormat("en-GB");

/** A number with commas. */
export const amount = (n: number) => number.format(n);

export const segments = (n: number) => (n === 1 ? "1 segment" : `${amount(n)} segments`);

/** Sums of money in words. */
export const sums = (all: components["schemas"]["Money"][]) =>
  all.length === 0 ? "price not known" : all.map((m) => `${m.amount} ${m.currency}`).join(" + ");
