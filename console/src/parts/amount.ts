import type { components } from "../api/schema.gen";

const number = new Intl.NumberFormat("en-GB");

/** A number with commas. */
export const amount = (n: number) => number.format(n);

/** Sums of money in words. */
export const sums = (all: components["schemas"]["Money"][]) =>
  all.length === 0 ? "price not known" : all.map((m) => `${m.amount} ${m.currency}`).join(" + ");
