type Value = string | number | boolean | string[] | undefined;

/** Links to a list as a whole, with the filters of the page. */
export function Export({ list, query = {} }: { list: string; query?: Record<string, Value> }) {
  const to = (format: string) => {
    const q = new URLSearchParams();
    for (const [name, value] of Object.entries(query)) {
      for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined) q.append(name, String(one));
    }
    q.set("format", format);
    return `/v1/exports/${list}?${q}`;
  };
  return (
    <p className="export quiet">
      All of it as{" "}
      <a href={to("csv")} download>
        CSV
      </a>
      ,{" "}
      <a href={to("xlsx")} download>
        XLSX
      </a>{" "}
      or{" "}
      <a href={to("jsonl")} download>
        JSON Lines
      </a>
    </p>
  );
}
