import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Refused } from "../parts/Refused";
import { Undo } from "../parts/Undo";
import { when } from "../parts/time";

/** Numbers with commas or semicolons between; spaces are part of them. */
const listed = (s: string) => s.split(/[,;]+/).map((n) => n.trim()).filter(Boolean);

/** Who does not want to be written to. */
export function OptOuts() {
  const queries = useQueryClient();
  const [q, setQ] = useState("");
  const [all, setAll] = useState(false);
  const [numbers, setNumbers] = useState("");
  const [why, setWhy] = useState("");
  const [gone, setGone] = useState("");
  const number = /^\+\d{5,15}$/.test(q.trim()) ? q.trim() : undefined;
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["opt-outs", number, all],
    queryFn: ({ pageParam }) => got(api.GET("/v1/opt-outs", { params: { query: { number, all, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const changed = () => void queries.invalidateQueries({ queryKey: ["opt-outs"] });
  const add = useMutation({
    mutationFn: (given: { numbers: string[]; why: string }) => got(api.POST("/v1/opt-outs", { body: given })),
    onSuccess: () => { setNumbers(""); setWhy(""); setGone(""); changed(); },
  });
  const remove = useMutation({
    mutationFn: (one: string) => got(api.DELETE("/v1/opt-outs/{number}", { params: { path: { number: one } } })),
    onSuccess: (_, one) => { setGone(one); changed(); },
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <div className="page">
      <p><Link to="/senders">Senders</Link></p>
      <h1>Opt-outs</h1>
      <p className="quiet">
        Who does not want to be written to. Passcodes go to them all the same, and nothing else. Who writes STOP to one of your numbers
        stands here at once; START ends it.
      </p>
      {gone && <Undo what={`${gone} may be written to again.`} undo={() => add.mutate({ numbers: [gone], why: "put back" })} />}
      <Form className="filters" onSubmit={(e) => { e.preventDefault(); add.mutate({ numbers: listed(numbers), why }); }}>
        <Form.Control className="w-auto mono" value={numbers} aria-label="Numbers to put on the list" placeholder="+447700900123"
          onChange={(e) => setNumbers(e.target.value)} />
        <Form.Control className="w-auto" value={why} aria-label="Why" placeholder="Why" onChange={(e) => setWhy(e.target.value)} />
        <Button type="submit" disabled={!numbers.trim() || add.isPending}>Put on the list</Button>
      </Form>
      {add.error && <Refused error={add.error} />}
      {remove.error && <Refused error={remove.error} />}
      <div className="filters">
        <Form.Control className="search" type="search" value={q} aria-label="Find a number" placeholder="Find a number, with its plus"
          onChange={(e) => setQ(e.target.value)} />
        <Form.Check type="switch" id="all" label="also those that have ended" checked={all} onChange={(e) => setAll(e.target.checked)} />
      </div>
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && <p className="empty">{number ? "This number has not opted out." : "Nobody has opted out."}</p>}
      {items.length > 0 && (
        <div className="table-responsive">
          <Table className="w-auto">
            <thead><tr><th>Number</th><th>Since</th><th>Why</th><th>By</th><th /></tr></thead>
            <tbody>
              {items.map((o) => (
                <tr key={o.number + o.since}>
                  <td className="mono"><Link to={`/messages?span=all&q=${encodeURIComponent(o.number)}`}>{o.number}</Link></td>
                  <td className="text-nowrap">{when(o.since)}</td>
                  <td>{o.why}</td>
                  <td>{o.by}</td>
                  <td>
                    {o.ended_at
                      ? <span className="quiet">ended {when(o.ended_at)} by {o.ended_by}{o.ended_why && `: ${o.ended_why}`}</span>
                      : (
                        <button className="plain" aria-label={`Take ${o.number} off the list`} onClick={() => remove.mutate(o.number)}>
                          Take off
                        </button>
                      )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {items.length > 0 && <Export list="opt-outs" query={{ number, all }} />}
      {hasNextPage && <More busy={isFetching} onClick={() => void fetchNextPage()}>Earlier ones</More>}
    </div>
  );
}
