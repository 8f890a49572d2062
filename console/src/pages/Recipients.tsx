import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, type RecipientsSaved } from "../api/client";
import { called, uploadRecipients } from "../api/upload";
import { amount } from "../parts/amount";
import { Drop } from "../parts/Drop";
import { More } from "../parts/More";
import { Refused } from "../parts/Refused";
import { when } from "../parts/time";

/** What came of a sheet that was put on a list. */
function Came({ of }: { of: RecipientsSaved }) {
  return (
    <div role="status" className="mb-3">
      <p className="mb-1">
        {of.recognised}: {amount(of.rows)} rows = {amount(of.added)} new + {amount(of.changed)} changed + {amount(of.same)} as before
        + <span className={of.left_out ? "look" : ""}>{amount(of.left_out)} left out</span>
      </p>
      {of.left.length > 0 && (
        <ul className="quiet mb-0">
          {of.left.slice(0, 10).map((l) => <li key={l.line}>line {l.line}: {l.why}</li>)}
          {of.left_out > 10 && <li>and {amount(of.left_out - 10)} more</li>}
        </ul>
      )}
    </div>
  );
}

/** Puts a sheet on a list: the one that is named, or one called as the file. */
function Save({ list }: { list?: string }) {
  const queries = useQueryClient();
  const go = useNavigate();
  const [country, setCountry] = useState("");
  const [name, setName] = useState("");
  const [done, setDone] = useState(0);
  const save = useMutation({
    mutationFn: (file: File) => uploadRecipients(list ?? (name.trim() || called(file)), file, country.trim(), setDone),
    onSuccess: (of) => {
      void queries.invalidateQueries({ queryKey: ["recipients"] });
      if (!list && of.left_out === 0) void go(`/recipients/${encodeURIComponent(of.list.name)}`);
    },
  });
  return (
    <>
      <Form className="filters" onSubmit={(e) => e.preventDefault()}>
        {!list && (
          <Form.Control className="w-auto" value={name} aria-label="Name of the list" placeholder="Name (default: the file's)"
            onChange={(e) => setName(e.target.value)} />
        )}
        <Form.Control className="w-auto" value={country} maxLength={2} aria-label="Country of numbers without a code"
          placeholder="Dialled in, such as GB" onChange={(e) => setCountry(e.target.value.toUpperCase())} />
      </Form>
      <Drop choose={list ? "Choose a sheet" : "Keep a list"} label="A sheet of recipients"
        take={(file) => save.mutate(file)} done={save.isPending ? done : undefined}
        words="or drop it here. A number stands once; a column called group names groups." />
      {save.error && <Refused error={save.error} />}
      {save.data && <Came of={save.data} />}
    </>
  );
}

/** Lists of recipients that are kept. */
export function Recipients() {
  const { data, error } = useQuery({ queryKey: ["recipients"], queryFn: () => got(api.GET("/v1/recipient-lists")) });
  return (
    <div className="page">
      <p><Link to="/batches">Batches</Link></p>
      <h1>Recipients</h1>
      <p className="quiet">Lists that are kept, with fields and groups, to be written to again: all of one, or some of its groups.</p>
      <Save />
      {error && !data && <Refused error={error} />}
      {data && data.items.length === 0 && <p className="empty">No list is kept yet.</p>}
      {data && data.items.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto">
            <thead><tr><th>Name</th><th className="text-end">Recipients</th><th>Columns</th><th>Changed</th><th>By</th></tr></thead>
            <tbody>
              {data.items.map((l) => (
                <tr key={l.name}>
                  <td><Link to={`/recipients/${encodeURIComponent(l.name)}`}>{l.name}</Link></td>
                  <td className="text-end">{amount(l.rows)}</td>
                  <td className="quiet">{l.columns.map((c) => c.head).join(", ")}</td>
                  <td className="text-nowrap">{when(l.changed_at)}</td>
                  <td>{l.by}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </div>
  );
}

/** One list: who is on it, in which groups, and the way to a batch. */
export function RecipientList() {
  const { list = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const group = search.get("group") ?? "";
  const queries = useQueryClient();
  const go = useNavigate();
  const [forgetting, setForgetting] = useState(false);
  const [adding, setAdding] = useState(false);
  const about = useQuery({
    queryKey: ["recipients", list],
    queryFn: () => got(api.GET("/v1/recipient-lists/{list}", { params: { path: { list } } })),
  });
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["recipients", list, "rows", group],
    queryFn: ({ pageParam }) => got(api.GET("/v1/recipient-lists/{list}/recipients", {
      params: { path: { list }, query: { group: group || undefined, cursor: pageParam || undefined } },
    })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const remove = useMutation({
    mutationFn: (number: string) => got(api.DELETE("/v1/recipient-lists/{list}/recipients", {
      params: { path: { list }, query: { number: [number], group: group || undefined } },
    })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["recipients", list] }),
  });
  const forget = useMutation({
    mutationFn: () => got(api.DELETE("/v1/recipient-lists/{list}", { params: { path: { list } } })),
    onSuccess: () => { void queries.invalidateQueries({ queryKey: ["recipients"] }); void go("/recipients"); },
  });
  const begin = useMutation({
    mutationFn: async () => {
      const made = await got(api.POST("/v1/batches", { body: { name: group ? `${list}, ${group}` : list } }));
      const from = { list, groups: group ? [group] : null, at: 0 };
      await got(api.POST("/v1/batches/{id}/recipients", { params: { path: { id: made.id } }, body: from }));
      return made.id;
    },
    onSuccess: (id) => { void queries.invalidateQueries({ queryKey: ["batches"] }); void go(`/batches/${id}`); },
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const columns = about.data?.columns ?? [];
  const chosen = about.data?.groups.find((g) => g.name === group)?.rows ?? about.data?.rows ?? 0;
  const wrong = about.error ?? error ?? remove.error ?? forget.error ?? begin.error;
  return (
    <div className="page">
      <p><Link to="/recipients">Recipients</Link></p>
      <h1>{list}</h1>
      {wrong && <Refused error={wrong} />}
      {about.data && (
        <>
          <p>
            <button className="plain" aria-pressed={!group} onClick={() => setSearch({})}>
              {amount(about.data.rows)} {about.data.rows === 1 ? "recipient" : "recipients"}
            </button>
            {about.data.groups.map((g) => (
              <span key={g.name}>
                {" · "}
                <button className="plain" aria-pressed={g.name === group} onClick={() => setSearch({ group: g.name })}>
                  {g.name} {amount(g.rows)}
                </button>
              </span>
            ))}
          </p>
          <div className="filters">
            <Button disabled={begin.isPending || chosen === 0} onClick={() => begin.mutate()}>
              Write to {group ? `the ${amount(chosen)} of ${group}` : `all ${amount(chosen)}`}
            </Button>
            <Button variant="outline-primary" aria-expanded={adding} onClick={() => setAdding(!adding)}>Add a sheet</Button>
            {forgetting
              ? <Button variant="outline-danger" onClick={() => forget.mutate()}>Forget all {amount(about.data.rows)}, for good</Button>
              : <Button variant="link" onClick={() => setForgetting(true)}>Forget this list</Button>}
          </div>
          {adding && <Save list={list} />}
        </>
      )}
      {data && items.length === 0 && <p className="empty">Nobody is on it{group && " in this group"}.</p>}
      {items.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto dense">
            <thead><tr>{columns.map((c) => <th key={c.head}>{c.head}</th>)}<th>Groups</th><th /></tr></thead>
            <tbody>
              {items.map((r) => (
                <tr key={r.to}>
                  {columns.map((c) => <td key={c.head} className={c.role === "to" ? "mono" : ""}>{r.fields[c.head]}</td>)}
                  <td>{r.groups.join(", ")}</td>
                  <td>
                    <button className="plain" aria-label={`Take ${r.to} off ${group || list}`} onClick={() => remove.mutate(r.to)}>
                      {group ? "Take out of the group" : "Take off"}
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {hasNextPage && <More busy={isFetching} onClick={() => void fetchNextPage()}>More</More>}
    </div>
  );
}
