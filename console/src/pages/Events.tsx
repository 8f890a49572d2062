import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type Happening, type Receiver, type Telling } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Raw } from "../parts/Raw";
import { Refused } from "../parts/Refused";
import { brief, when } from "../parts/time";

const outcomes = ["waiting", "told", "parked"] as const;

/** How a receiver fares: in a word, and why. */
function Fares({ r }: { r: Receiver }) {
  if (r.state === "working") return <span className="quiet">{r.told_at ? `took one ${when(r.told_at)}` : "nothing was told yet"}</span>;
  return (
    <span className={r.state === "paused" ? "look" : "fault"}>
      {r.state}
      {r.why && `: ${r.why}`}
      {r.until && `, until ${when(r.until)}`}
    </span>
  );
}

/** A secret, shown once. */
function Secret({ r, done }: { r: Receiver; done: () => void }) {
  return (
    <div className="notice" role="status">
      <p className="mb-1">The secret of {r.name}, with which what it is told is signed. It is shown this once.</p>
      <p className="mb-1">
        <span className="mono">{r.secret}</span>
      </p>
      {r.signing.length > 1 && (
        <p className="mb-1">What it is told is signed with the one before, too, until {when(r.signing[1]?.until ?? "")}.</p>
      )}
      <Button size="sm" variant="outline-primary" onClick={() => void navigator.clipboard?.writeText(r.secret ?? "")}>
        Copy
      </Button>
      <Button size="sm" variant="link" onClick={done}>
        I have it
      </Button>
    </div>
  );
}

/** Adds a receiver. */
function Add({ done }: { done: (r: Receiver) => void }) {
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [types, setTypes] = useState("");
  const add = useMutation({
    mutationFn: () => got(api.POST("/v1/receivers", { body: { name, address, types: types.split(/[\s,]+/).filter(Boolean) } })),
    onSuccess: (r) => {
      setName("");
      setAddress("");
      setTypes("");
      done(r);
    },
  });
  return (
    <>
      <Form
        className="filters"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Form.Control
          className="w-auto"
          value={name}
          aria-label="Name of the receiver"
          placeholder="shop"
          onChange={(e) => setName(e.target.value)}
        />
        <Form.Control
          className="w-auto flex-fill mono"
          value={address}
          aria-label="Its address"
          placeholder="https://shop.example.net/hooks/sms"
          onChange={(e) => setAddress(e.target.value)}
        />
        <Form.Control
          className="w-auto flex-fill mono"
          value={types}
          aria-label="Types of events"
          placeholder="all, or message.delivered, batch.*"
          onChange={(e) => setTypes(e.target.value)}
        />
        <Button type="submit" disabled={!name || !address || add.isPending}>
          Add receiver
        </Button>
      </Form>
      {add.error && <Refused error={add.error} />}
    </>
  );
}

/** Who is told, and how each fares. */
function Receivers({ chosen, choose }: { chosen: string; choose: (name: string) => void }) {
  const queries = useQueryClient();
  const [fresh, setFresh] = useState<Receiver>();
  const { data, error } = useQuery({ queryKey: ["receivers"], queryFn: () => got(api.GET("/v1/receivers")), refetchInterval: 3000 });
  const changed = () => {
    void queries.invalidateQueries({ queryKey: ["receivers"] });
    void queries.invalidateQueries({ queryKey: ["attention"] });
  };
  const at = (name: string) => ({ params: { path: { name } } });
  const test = useMutation({ mutationFn: (name: string) => got(api.POST("/v1/receivers/{name}/test", at(name))) });
  const act = useMutation({
    mutationFn: async ({ name, what }: { name: string; what: "pause" | "resume" | "rotate" | "remove" }): Promise<Receiver | undefined> => {
      if (what === "pause") return got(api.POST("/v1/receivers/{name}/pause", { ...at(name), body: {} }));
      if (what === "resume") return got(api.POST("/v1/receivers/{name}/resume", at(name)));
      if (what === "rotate") return got(api.POST("/v1/receivers/{name}/rotate", { ...at(name), body: { overlap: "24h" } }));
      await got(api.DELETE("/v1/receivers/{name}", at(name)));
      return undefined;
    },
    onSuccess: (r) => {
      changed();
      if (r?.secret) setFresh(r);
    },
  });
  const items = data?.items ?? [];
  return (
    <>
      {error && !data && <Refused error={error} />}
      {items.length > 0 && (
        <div className="table-responsive">
          <Table>
            <thead>
              <tr>
                <th>Receiver</th>
                <th>Told of</th>
                <th>Fares</th>
                <th className="text-end">Waiting</th>
                <th className="text-end">Parked</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {items.map((r) => (
                <Fragment key={r.id}>
                  <tr>
                    <td>
                      <button className="plain" aria-pressed={chosen === r.name} onClick={() => choose(chosen === r.name ? "" : r.name)}>
                        {r.name}
                      </button>
                      <div className="quiet small mono text-break">{r.address || "somebody follows"}</div>
                    </td>
                    <td>
                      {r.types.length ? r.types.join(", ") : "everything"}
                      <span className="quiet">
                        {[...r.kinds, ...Object.entries(r.labels).map(([k, v]) => `${k}=${v}`)].map((w) => `, ${w}`).join("")}
                      </span>
                      {r.reports !== "no" && <span className="quiet">; messages may name addresses below it</span>}
                    </td>
                    <td>
                      <Fares r={r} />
                    </td>
                    <td className="text-end">{r.waiting || ""}</td>
                    <td className="text-end">{r.parked ? <span className="fault">{r.parked}</span> : ""}</td>
                    <td className="text-nowrap text-end">
                      {r.address && (
                        <>
                          <Button size="sm" variant="outline-primary" disabled={test.isPending} onClick={() => test.mutate(r.name)}>
                            Test
                          </Button>{" "}
                          <Button
                            size="sm"
                            variant="link"
                            disabled={act.isPending}
                            onClick={() => act.mutate({ name: r.name, what: r.state === "paused" ? "resume" : "pause" })}
                          >
                            {r.state === "paused" ? "Resume" : "Pause"}
                          </Button>
                          <Button
                            size="sm"
                            variant="link"
                            disabled={act.isPending}
                            onClick={() => act.mutate({ name: r.name, what: "rotate" })}
                          >
                            New secret
                          </Button>
                          <Button
                            size="sm"
                            variant="link"
                            disabled={act.isPending}
                            onClick={() => {
                              if (confirm(`Tell ${r.name} no more, and forget what it was still to be told?`))
                                act.mutate({ name: r.name, what: "remove" });
                            }}
                          >
                            Remove
                          </Button>
                        </>
                      )}
                    </td>
                  </tr>
                  {test.data && test.variables === r.name && (
                    <tr className="raw">
                      <td colSpan={6}>
                        <p className={test.data.taken ? "" : "fault"} role="status">
                          {test.data.taken ? "It takes events." : `It takes no events: ${test.data.wrong}.`}{" "}
                          <button className="plain" onClick={() => test.reset()}>
                            fold
                          </button>
                        </p>
                        <Raw x={test.data.exchange} />
                      </td>
                    </tr>
                  )}
                </Fragment>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {test.error && <Refused error={test.error} />}
      {act.error && <Refused error={act.error} />}
      {fresh && <Secret r={fresh} done={() => setFresh(undefined)} />}
      {data && items.length === 0 && (
        <p className="empty">
          Nobody is told. Add an address of your application, or work on it with{" "}
          <span className="mono">pigeon event follow --to http://127.0.0.1:3000/hook</span>.
        </p>
      )}
      <Add
        done={(r) => {
          setFresh(r);
          changed();
        }}
      />
    </>
  );
}

/** What came of telling one receiver. */
function Outcome({ t }: { t: Telling }) {
  if (t.outcome === "told")
    return (
      <>
        {t.receiver}{" "}
        <span className="quiet">
          took it after {t.took_ms.toFixed(1)} ms{t.tries > 1 && `, at the ${t.tries}th try`}
        </span>
      </>
    );
  return (
    <span className={t.outcome === "parked" || t.error ? "fault" : undefined}>
      {t.receiver}: {t.outcome === "parked" ? `parked after ${t.tries} tries, ` : ""}
      {t.error || "not told yet"}
      {t.due_at && t.tries > 0 && <span className="quiet"> · again at {when(t.due_at)}</span>}
    </span>
  );
}

/** What an event is about, as a link to it. */
function About({ e }: { e: Happening }) {
  const data = (e.body?.data ?? {}) as { to?: string; reference?: string; name?: string; title?: string; from?: string };
  const [family] = e.type.split(".");
  if (family === "message")
    return (
      <>
        <Link className="mono" to={`/messages/${e.subject}`}>
          {brief(e.subject)}
        </Link>{" "}
        <span className="quiet">
          {data.to} {data.reference}
        </span>
      </>
    );
  if (family === "batch") return <Link to={`/batches/${e.subject}`}>{data.name}</Link>;
  if (family === "attention") return <>{data.title}</>;
  return <span className="mono">{data.from}</span>;
}

/** What happened, who is told of it, and what came of that. */
export function Events() {
  const queries = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const [open, setOpen] = useState<string>();
  const receiver = search.get("receiver") ?? "";
  const query = {
    receiver: receiver || undefined,
    outcome: (search.get("outcome") ?? undefined) as (typeof outcomes)[number] | undefined,
    type: search.get("type") ?? undefined,
  };
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["events", query],
    queryFn: ({ pageParam }) => got(api.GET("/v1/events", { params: { query: { ...query, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 3000,
  });
  const types = useQuery({ queryKey: ["event-types"], queryFn: () => got(api.GET("/v1/events/types")), staleTime: Infinity });
  const again = useMutation({
    mutationFn: (body: { receiver: string; events?: string[]; outcome?: "parked" }) => got(api.POST("/v1/events/resend", { body })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["events"] });
      void queries.invalidateQueries({ queryKey: ["receivers"] });
    },
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(name, value);
    else next.delete(name);
    setSearch(next);
  };
  return (
    <div className="page">
      <h1>Events</h1>
      <p className="quiet">
        What becomes of messages, batches and replies is told to addresses of your application as it happens, signed as Standard Webhooks
        says, in its order, for a day until it is taken.
      </p>
      <Receivers chosen={receiver} choose={(name) => set("receiver", name)} />
      <h2>{receiver ? `What ${receiver} is told` : "What happened"}</h2>
      <div className="filters">
        <Form.Select
          size="sm"
          className="w-auto"
          aria-label="What came of telling it"
          value={query.outcome ?? ""}
          onChange={(e) => set("outcome", e.target.value)}
        >
          <option value="">told or not</option>
          {outcomes.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </Form.Select>
        <Form.Select size="sm" className="w-auto" aria-label="Type" value={query.type ?? ""} onChange={(e) => set("type", e.target.value)}>
          <option value="">all types</option>
          {types.data?.items.map((t) => (
            <option key={t.type}>{t.type}</option>
          ))}
        </Form.Select>
        {receiver && (
          <Button size="sm" variant="link" onClick={() => set("receiver", "")}>
            of all receivers
          </Button>
        )}
        {receiver && query.outcome === "parked" && items.length > 0 && (
          <Button
            size="sm"
            className="ms-auto"
            variant="outline-primary"
            disabled={again.isPending}
            onClick={() => again.mutate({ receiver, outcome: "parked" })}
          >
            Tell {receiver} of all that is parked
          </Button>
        )}
      </div>
      {again.error && <Refused error={again.error} />}
      {again.data && (
        <div className="notice" role="status">
          {again.variables?.receiver} is told again of {again.data.events === 1 ? "1 event" : `${again.data.events} events`}.
        </div>
      )}
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && (
        <p className="empty">There are none of these. What happens is kept from when on there is somebody to be told.</p>
      )}
      {items.length > 0 && (
        <Table className="dense events">
          <thead>
            <tr>
              <th>When</th>
              <th>What</th>
              <th>About</th>
              <th>Told</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {items.map((e) => (
              <Fragment key={e.id}>
                <tr>
                  <td className="text-nowrap">{when(e.at)}</td>
                  <td className="text-nowrap">{e.type}</td>
                  <td>
                    <About e={e} />
                  </td>
                  <td>
                    {e.tellings
                      .filter((t) => !receiver || t.receiver === receiver)
                      .map((t) => (
                        <div key={t.receiver}>
                          <Outcome t={t} />
                        </div>
                      ))}
                  </td>
                  <td>
                    <button className="plain" aria-expanded={open === e.id} onClick={() => setOpen(open === e.id ? undefined : e.id)}>
                      {open === e.id ? "fold" : "look"}
                    </button>
                  </td>
                </tr>
                {open === e.id && (
                  <tr className="raw">
                    <td colSpan={5}>
                      {e.tellings.map((t) => (
                        <p key={t.receiver} className="mb-1">
                          <Outcome t={t} />
                          {t.answer && <span className="quiet mono ms-2">{t.answer}</span>}{" "}
                          <Button
                            size="sm"
                            variant="outline-primary"
                            disabled={again.isPending}
                            onClick={() => again.mutate({ receiver: t.receiver, events: [e.id] })}
                          >
                            Tell it again
                          </Button>
                        </p>
                      ))}
                      <pre className="mono">{`webhook-id: ${e.id}\n\n${JSON.stringify(e.body, null, 2)}`}</pre>
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </Table>
      )}
      {items.length > 0 && <Export list="events" query={query} />}
      {hasNextPage && (
        <More busy={isFetching} onClick={() => void fetchNextPage()}>
          Earlier ones
        </More>
      )}
    </div>
  );
}
