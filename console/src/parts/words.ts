/** The words of a field that holds several, with spaces or commas between. */
export const words = (s: string) => s.split(/[\s,]+/).filter(Boolean);
