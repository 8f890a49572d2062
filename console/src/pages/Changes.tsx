import { useInfiniteQuery } from "@tanstack/react-query";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { useSearchParams } from "react-router";
import { api, got, type Change } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Refused } from "../parts/Refused";
import { when } from "../parts/time";

const kinds: Change["what"][] = [
  "gateway", "sender", "default", "rule", "template", "route", "prices", "key", "receiver", "passcode_limit", "passcode_rule",
  "passcode_alarm",
];

/** A value in a few words. */
function short(value: unknown) {
  if (value === null || value === undefined || value === "") return "none";
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 59)}…` : text;
}

function Differs({ change }: { change: Change }) {
  const { before, after } = change;
  if (!before || !after) return null;
  return (
    <ul className="list-unstyled mb-0">
      {Object.keys(after).sort().map((field) => {
        const [was, is] = [short(before[field]), short(after[field])];
        return (
          <li key={field}>
            {field.replaceAll("_", " ")}{" "}
            {was === is ? <span className="quiet">changed</span> : <span className="mono wrap">{was} → {is}</span>}
          </li>
        );
      })}
    </ul>
  );
}

/** Who changed what of what is set, and when. */
export function Changes() {
  const [search, setSearch] = useSearchParams();
  const what = search.get("what") ?? "";
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["changes", what],
    queryFn: ({ pageParam }) => {
      const query = { what: (what || undefined) as Change["what"] | undefined, cursor: pageParam || undefined };
      return got(api.GET("/v1/changes", { params: { query } }));
    },
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const all = data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <div className="page">
      <h1>Changes</h1>
      <p className="quiet">Who changed gateways, routes, senders and the rest, and when. What stands here stays.</p>
      <Form.Select
        className="w-auto mb-3"
        aria-label="Of what"
        value={what}
        onChange={(e) => setSearch(e.target.value ? { what: e.target.value } : {})}
      >
        <option value="">everything</option>
        {kinds.map((k) => <option key={k} value={k}>{k.replaceAll("_", " ")}</option>)}
      </Form.Select>
      {error && !data && <Refused error={error} />}
      {data && all.length === 0 && <p>Nothing has been changed.</p>}
      {all.length > 0 && (
        <div className="table-responsive">
          <Table>
            <thead><tr><th>When</th><th>With the key</th><th>What</th><th /><th>What differs</th></tr></thead>
            <tbody>
              {all.map((c) => (
                <tr key={c.id}>
                  <td className="text-nowrap">{when(c.at)}</td>
                  <td>{c.by}</td>
                  <td>{c.what.replaceAll("_", " ")} <span className="mono">{c.name}</span></td>
                  <td className="quiet">{c.action}</td>
                  <td><Differs change={c} /></td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {all.length > 0 && <Export list="changes" query={{ what: what || undefined }} />}
      {hasNextPage && <More busy={isFetching} onClick={() => void fetchNextPage()}>Earlier ones</More>}
    </div>
  );
}
