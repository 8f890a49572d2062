import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useNavigate } from "react-router";
import { api, got, Refusal, type Problem, type StatementTaken } from "../api/client";
import { Refused } from "../parts/Refused";
import { spanWords, when } from "../parts/time";

/** Takes a file in as it is, or only says how it would be read. */
async function take(gateway: string, file: File, dryRun: boolean): Promise<StatementTaken> {
  const q = new URLSearchParams({ gateway, file: file.name, ...(dryRun ? { dry_run: "true" } : {}) });
  const answer = await fetch(`/v1/statements?${q}`, {
    method: "POST",
    body: file,
    headers: { "Content-Type": "application/octet-stream" },
  });
  const said: unknown = await answer.json();
  if (!answer.ok) throw new Refusal(said as Problem);
  return said as StatementTaken;
}

/** How a file is read, before anything of it is kept. */
function Reading({ t }: { t: StatementTaken }) {
  const m = t.statement.mapping;
  return (
    <>
      <p className="quiet">
        {t.statement.recognised}.{" "}
        {m.dialect
          ? "It is read as the dialect of the gateway says."
          : Object.entries(m.columns)
              .map(([role, name]) => `${role}: ${name}`)
              .join(", ")}
      </p>
      <Table className="w-auto dense">
        <thead>
          <tr>
            <th>Line</th>
            <th>Its id</th>
            <th>Number</th>
            <th>When</th>
            <th>State</th>
            <th>Segments</th>
            <th>Charge</th>
          </tr>
        </thead>
        <tbody>
          {t.first.map((l) => (
            <tr key={l.n}>
              <td>{l.n}</td>
              <td className="mono">{l.gateway_ref || l.reference}</td>
              <td className="mono">{l.number}</td>
              <td>{l.at && when(l.at)}</td>
              {l.wrong ? (
                <td colSpan={3} className="fault">
                  {l.wrong}
                </td>
              ) : (
                <>
                  <td>{l.state}</td>
                  <td>{l.segments || ""}</td>
                  <td>{l.charge && `${l.charge.amount} ${l.charge.currency}`}</td>
                </>
              )}
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

/** Gateways' own lists and bills, held against every message. */
export function Statements() {
  const queries = useQueryClient();
  const go = useNavigate();
  const [gateway, setGateway] = useState("");
  const [file, setFile] = useState<File>();
  const gateways = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")), staleTime: 60e3 });
  const schedules = useQuery({
    queryKey: ["statement schedules"],
    queryFn: () => got(api.GET("/v1/statement-schedules")),
    refetchInterval: 15_000,
  });
  const { data, error } = useQuery({ queryKey: ["statements"], queryFn: () => got(api.GET("/v1/statements")), refetchInterval: 3000 });
  const look = useMutation({ mutationFn: ({ g, f }: { g: string; f: File }) => take(g, f, true) });
  const keep = useMutation({
    mutationFn: () => take(gateway, file!, false),
    onSuccess: (t) => {
      void queries.invalidateQueries({ queryKey: ["statements"] });
      go(`/statements/${t.statement.id}`);
    },
  });
  const choose = (g: string, f: File | undefined) => {
    setGateway(g);
    setFile(f);
    keep.reset();
    look.reset();
    if (g && f) look.mutate({ g, f });
  };
  const items = data?.items ?? [];
  return (
    <div className="page">
      <p className="mb-1">
        <Link to="/">Today</Link>
      </p>
      <h1>Statements</h1>
      <p className="quiet">
        A gateway's own list or bill, as CSV, XLSX or JSON Lines, held against every message that went through it.{" "}
        <Link to="/money">What they bill in all</Link>
      </p>
      <div className="filters">
        <Form.Select className="w-auto" aria-label="Whose list it is" value={gateway} onChange={(e) => choose(e.target.value, file)}>
          <option value="">which gateway's</option>
          {gateways.data?.items.map((g) => (
            <option key={g.id}>{g.name}</option>
          ))}
        </Form.Select>
        <Form.Control
          className="w-auto"
          type="file"
          id="file"
          aria-label="The file"
          onChange={(e) => choose(gateway, (e.target as HTMLInputElement).files?.[0])}
        />
      </div>
      {look.error && <Refused error={look.error} />}
      {keep.error && <Refused error={keep.error} />}
      {look.data && (
        <>
          <Reading t={look.data} />
          <p>
            <Button disabled={keep.isPending} onClick={() => keep.mutate()}>
              {keep.isPending ? "Reading …" : "Take it in and match it"}
            </Button>
          </p>
        </>
      )}
      {schedules.data?.items.map((s) => (
        <p key={s.gateway} className={s.failed_at ? "notice" : "quiet"}>
          <Link to={`/gateways/${s.gateway}`}>{s.gateway}</Link>&rsquo;s is fetched every {spanWords(s.every)}
          {s.through ? `: until ${when(s.through)}, next ${when(s.due_at)}` : ""}.
          {s.failed_at && ` It fails since ${when(s.failed_at)}: ${s.failure}`}
        </p>
      ))}
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && (
        <p className="empty">
          None was taken in yet. Choose a gateway and its file, or use <span className="mono">pigeon statement take</span>.
        </p>
      )}
      {items.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>Taken in</th>
              <th>Gateway</th>
              <th>File</th>
              <th className="text-end">Lines</th>
              <th className="text-end">Agree</th>
              <th className="text-end">State</th>
              <th className="text-end">Money</th>
              <th className="text-end">Only theirs</th>
              <th className="text-end">Only ours</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {items.map((s) => (
              <tr key={s.id}>
                <td className="text-nowrap">
                  <Link to={`/statements/${s.id}`}>{when(s.created_at)}</Link>
                </td>
                <td>{s.gateway}</td>
                <td>{s.name}</td>
                <td className="text-end">{s.lines}</td>
                {s.heaps ? (
                  [s.heaps.agrees, s.heaps.state, s.heaps.money, s.heaps.theirs, s.heaps.ours].map((n, i) => (
                    <td key={i} className="text-end">
                      {n}
                    </td>
                  ))
                ) : (
                  <td colSpan={5} className="quiet">
                    {s.state}
                  </td>
                )}
                <td className="quiet">{s.state === "withdrawn" && "withdrawn"}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </div>
  );
}
