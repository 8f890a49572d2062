/** The words of a field that holds several, with spaces or commas between. */
export const words = (s: string) => s.split(/[\s,]+/).filter(Boolean);

const regions = new Intl.DisplayNames(["en"], { type: "region" });

/** The name of a country; the code itself if it has none. */
export function countryName(code: string): string {
  try {
    return (code && regions.of(code)) || code || "elsewhere";
  } catch {
    return code;
  }
}
