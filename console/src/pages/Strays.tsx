import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type Stray } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Raw } from "../parts/Raw";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { Undo } from "../parts/Undo";
import { brief, when } from "../parts/time";

type Doing = { what: "attach" | "discard" | "restore"; strays: string[]; message?: string; why: string };

const fates = ["waiting", "weak", "attached", "discarded"] as const;

const done = { attach: "attached", discard: "discarded", restore: "waiting again" };

/** Where a stray stands: what it waits for, or to which message it belongs. */
function Fate({ t }: { t: Stray }) {
  if (t.message) {
    return (
      <>
        {t.fate === "weak" ? "can only belong to" : "attached to"}{" "}
        <Link className="mono" to={`/messages/${t.message}`}>
          {brief(t.message)}
        </Link>
        {t.by && <span className="quiet"> by {t.by}</span>}
      </>
    );
  }
  if (t.fate === "discarded")
    return (
      <span className="quiet">
        discarded by {t.by}
        {t.why && `: ${t.why}`}
      </span>
    );
  return t.advice ? <>{t.advice}</> : <span className="quiet">looked for</span>;
}

/** The receipt as it came, and the messages that are nearest to it. */
function Open({ id, act, busy }: { id: string; act: (d: Doing) => void; busy: boolean }) {
  const [why, setWhy] = useState("");
  const { data: t, error } = useQuery({
    queryKey: ["strays", "one", id],
    queryFn: () => got(api.GET("/v1/strays/{id}", { params: { path: { id } } })),
  });
  if (error) return <Refused error={error} />;
  if (!t) return null;
  const candidates = t.candidates ?? [];
  return (
    <div className="stray">
      {t.asks > 0 && (
        <p className="quiet">
          The gateway was asked about this id {t.asks === 1 ? "once" : `${t.asks} times`}:{" "}
          {{ known: "it knows it", absent: "it does not know it", nothing: "it told nothing of use", "": "" }[t.answer]}.
        </p>
      )}
      {candidates.length > 0 ? (
        <Table className="w-auto dense">
          <thead>
            <tr>
              <th>Nearest messages</th>
              <th>To</th>
              <th>State</th>
              <th>Submitted</th>
              <th>Until it came</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {candidates.map((c) => (
              <tr key={c.message + c.attempt}>
                <td className="mono">
                  <Link to={`/messages/${c.message}`}>{brief(c.message)}</Link>
                </td>
                <td className="mono">
                  {c.to}
                  {c.same_number && <span className="quiet"> same</span>}
                </td>
                <td>
                  <StateBadge state={c.state} />
                </td>
                <td className="text-nowrap">{when(c.began_at)}</td>
                <td>{c.after.toFixed(1)} s</td>
                <td>
                  {t.fate !== "attached" && (c.fits || !c.settled) && (
                    <Button
                      size="sm"
                      variant="outline-primary"
                      disabled={busy}
                      onClick={() => act({ what: "attach", strays: [t.id], message: c.message, why })}
                    >
                      It belongs to this one
                    </Button>
                  )}
                  {!c.fits && <span className="quiet ms-2">{c.settled ? "its end is known by name" : "by number or time it is not"}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      ) : (
        <p className="quiet">Nothing is near to it among what went through {t.gateway}.</p>
      )}
      <div className="filters">
        <Form.Control
          className="w-auto"
          size="sm"
          value={why}
          aria-label="Why"
          placeholder="Why, for whoever asks later"
          onChange={(e) => setWhy(e.target.value)}
        />
        {t.fate !== "discarded" && (
          <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => act({ what: "discard", strays: [t.id], why })}>
            It means nothing to us
          </Button>
        )}
        {t.fate !== "waiting" && (
          <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => act({ what: "restore", strays: [t.id], why })}>
            {t.fate === "weak" ? "It does not belong to that one" : "Take it back"}
          </Button>
        )}
      </div>
      {t.raw ? <Raw x={t.raw} /> : <p className="quiet">The receipt as it came is not kept any more.</p>}
    </div>
  );
}

/** Receipts that no message is known to match. */
export function Strays() {
  const queries = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const [open, setOpen] = useState<string>();
  const [chosen, setChosen] = useState<string[]>([]);
  const fate = search.get("fate") ?? "waiting,weak";
  const query = {
    fate,
    gateway: search.get("gateway") ?? undefined,
    reason: (search.get("reason") ?? undefined) as "in_doubt" | undefined,
  };
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["strays", "list", query],
    queryFn: ({ pageParam }) => got(api.GET("/v1/strays", { params: { query: { ...query, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 5000,
  });
  const act = useMutation({
    mutationFn: ({ what, ...body }: Doing) => got(api.POST(`/v1/strays/${what}`, { body })),
    onSuccess: () => {
      setChosen([]);
      setOpen(undefined);
      void queries.invalidateQueries({ queryKey: ["strays"] });
      void queries.invalidateQueries({ queryKey: ["attention"] });
    },
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const total = data?.pages[0]?.counts.reduce((n, c) => n + c.count, 0) ?? 0;
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(name, value);
    else next.delete(name);
    setChosen([]);
    setSearch(next);
  };
  const last = act.variables;
  return (
    <div className="page">
      <p className="mb-1">
        <Link to="/">Today</Link>
      </p>
      <h1>{total === 1 ? "1 stray" : `${total} strays`}</h1>
      <p className="quiet">
        Receipts that no message is known to match. They are looked for again as messages become known. One that can only belong to one
        message settles its doubt, weakly: anything better takes its place, and it is never a reason to send again.
      </p>
      <div className="filters">
        <Form.Select size="sm" className="w-auto" aria-label="Which" value={fate} onChange={(e) => set("fate", e.target.value)}>
          <option value="waiting,weak">waiting or weak</option>
          {fates.map((f) => (
            <option key={f}>{f}</option>
          ))}
          <option value={fates.join(",")}>all</option>
        </Form.Select>
        {(query.gateway || query.reason) && (
          <>
            <span className="align-self-center">{[query.gateway, query.reason?.replaceAll("_", " ")].filter(Boolean).join(", ")}</span>
            <Button size="sm" variant="link" onClick={() => setSearch({ fate })}>
              show all
            </Button>
          </>
        )}
        {chosen.length > 0 && (
          <Button
            size="sm"
            className="ms-auto"
            variant="outline-primary"
            disabled={act.isPending}
            onClick={() => act.mutate({ what: "discard", strays: chosen, why: "" })}
          >
            Discard the {chosen.length} that are chosen
          </Button>
        )}
      </div>
      {act.error && <Refused error={act.error} />}
      {act.isSuccess &&
        last &&
        (last.what === "restore" ? (
          <div className="notice" role="status">
            {last.strays.length === 1 ? "The stray is" : `${last.strays.length} strays are`} {done.restore}.
          </div>
        ) : (
          <Undo
            what={`${last.strays.length === 1 ? "The stray is" : `${last.strays.length} strays are`} ${done[last.what]}.`}
            undo={() => act.mutate({ what: "restore", strays: last.strays, why: "undone" })}
          />
        ))}
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && <p className="empty">There are none of these: every receipt has found its message.</p>}
      {items.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th aria-label="Chosen" />
              <th>Came</th>
              <th>Gateway</th>
              <th>Its id</th>
              <th>Number</th>
              <th>Claims</th>
              <th>What is known</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {items.map((t) => (
              <Fragment key={t.id}>
                <tr>
                  <td>
                    <Form.Check
                      aria-label={`Choose ${t.gateway_ref || t.id}`}
                      checked={chosen.includes(t.id)}
                      onChange={(e) => setChosen(e.target.checked ? [...chosen, t.id] : chosen.filter((c) => c !== t.id))}
                    />
                  </td>
                  <td className="text-nowrap">{when(t.at)}</td>
                  <td>
                    <Link to={`/gateways/${t.gateway}`}>{t.gateway}</Link>
                  </td>
                  <td className="mono text-nowrap">{t.gateway_ref}</td>
                  <td className="mono text-nowrap">{t.number || t.written}</td>
                  <td>
                    {t.claim ? <StateBadge state={t.claim} /> : <span className="quiet">nothing</span>}
                    {t.part > 0 && ` ${t.part}/${t.parts}`}
                  </td>
                  <td>
                    <Fate t={t} />
                  </td>
                  <td>
                    <button className="plain" aria-expanded={open === t.id} onClick={() => setOpen(open === t.id ? undefined : t.id)}>
                      {open === t.id ? "fold" : "look"}
                    </button>
                  </td>
                </tr>
                {open === t.id && (
                  <tr className="raw">
                    <td colSpan={8}>
                      <Open id={t.id} act={act.mutate} busy={act.isPending} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </Table>
      )}
      {items.length > 0 && <Export list="strays" query={query} />}
      {hasNextPage && (
        <More busy={isFetching} onClick={() => void fetchNextPage()}>
          Earlier ones
        </More>
      )}
    </div>
  );
}
