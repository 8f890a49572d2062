import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link, useSearchParams } from "react-router";
import { api, got, type Said, type State } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { when } from "../parts/time";

/** One text of a conversation: theirs at the left, ours at the right. */
function Text({ s }: { s: Said }) {
  return (
    <li className={s.ours ? "ours" : "theirs"}>
      <div className="text">{s.text}</div>
      <div className="quiet small">
        {s.ours ? (
          <>
            <Link to={`/messages/${s.id}`}>{when(s.at)}</Link> from {s.sender} <StateBadge state={s.state as State} />
          </>
        ) : (
          <>
            {when(s.at)} to {s.sender}
          </>
        )}
        {s.message && (
          <>
            {" "}
            · answers <Link to={`/messages/${s.message}`}>a message</Link>
          </>
        )}
      </div>
    </li>
  );
}

/** What was said with a number, and the answer. */
function Thread({ number }: { number: string }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const at = { params: { path: { number } } };
  const { data, error } = useQuery({
    queryKey: ["conversations", "one", number],
    queryFn: () => got(api.GET("/v1/conversations/{number}", { params: { path: { number }, query: { limit: 20 } } })),
    refetchInterval: 2000,
  });
  const changed = () => void queries.invalidateQueries({ queryKey: ["conversations"] });
  const answer = useMutation({
    mutationFn: () => got(api.POST("/v1/conversations/{number}", { ...at, body: { text } })),
    onSuccess: () => {
      setText("");
      changed();
    },
  });
  const done = useMutation({
    mutationFn: (undo: boolean) => got(api.POST("/v1/conversations/{number}/done", { ...at, body: { undo } })),
    onSuccess: changed,
  });
  if (error && !data) return <Refused error={error} />;
  const items = [...(data?.items ?? [])].reverse();
  const to = data?.items.find((s) => !s.ours)?.sender;
  return (
    <section className="thread" aria-label={`What was said with ${number}`}>
      <h2 className="mono">{number}</h2>
      {data?.next && (
        <p className="quiet">
          There is more before: <Link to={`/messages?span=all&q=${encodeURIComponent(number)}`}>all messages to it</Link>.
        </p>
      )}
      <ol>
        {items.map((s) => (
          <Text key={s.id} s={s} />
        ))}
      </ol>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          answer.mutate();
        }}
      >
        <Form.Control
          as="textarea"
          rows={2}
          value={text}
          aria-label="Your answer"
          placeholder={to ? `Answer from ${to}` : "Answer"}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter" && (e.ctrlKey || e.metaKey) && text.trim()) answer.mutate();
          }}
        />
        <div className="filters mt-2">
          <Button type="submit" disabled={!text.trim() || answer.isPending}>
            Send answer
          </Button>
          <Button variant="link" disabled={done.isPending} onClick={() => done.mutate(false)}>
            It wants no answer
          </Button>
        </div>
      </Form>
      {answer.error && <Refused error={answer.error} />}
      {done.error && <Refused error={done.error} />}
      {done.isSuccess && done.variables === false && (
        <div className="notice" role="status">
          It wants no answer.{" "}
          <Button size="sm" variant="link" onClick={() => done.mutate(true)}>
            Take it back
          </Button>
        </div>
      )}
    </section>
  );
}

/** What people wrote to your senders. */
export function Replies() {
  const [search, setSearch] = useSearchParams();
  const [q, setQ] = useState(search.get("q") ?? "");
  const waiting = search.get("waiting") === "true" || undefined;
  const number = search.get("number") ?? "";
  const query = { q: q || undefined, waiting };
  const { data, error, fetchNextPage, hasNextPage, isFetching } = useInfiniteQuery({
    queryKey: ["conversations", "list", query],
    queryFn: ({ pageParam }) => got(api.GET("/v1/conversations", { params: { query: { ...query, cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 3000,
    placeholderData: keepPreviousData,
  });
  const items = data?.pages.flatMap((p) => p.items) ?? [];
  const set = (name: string, value: string | undefined) => {
    const next = new URLSearchParams(search);
    if (value) next.set(name, value);
    else next.delete(name);
    setSearch(next);
  };
  const open = items.filter((c) => c.waiting).length;
  return (
    <div className="page">
      <h1>{open === 0 ? "Replies" : open === 1 ? "1 reply wants an answer" : `${open}${hasNextPage ? "+" : ""} replies want an answer`}</h1>
      <div className="filters">
        <Form.Control
          className="search"
          type="search"
          value={q}
          aria-label="Find a number or words"
          placeholder="A number with its plus, or words"
          onChange={(e) => setQ(e.target.value)}
        />
        <Form.Check
          className="align-self-center"
          type="switch"
          id="waiting"
          label="only what wants an answer"
          checked={waiting ?? false}
          onChange={(e) => set("waiting", e.target.checked ? "true" : undefined)}
        />
      </div>
      {error && !data && <Refused error={error} />}
      {data && items.length === 0 && (
        <p className="empty">
          {q || waiting ? (
            "There are none of these."
          ) : (
            <>
              Nobody has written yet. People can answer to <Link to="/senders">senders</Link> that are numbers and whose replies reach you.
            </>
          )}
        </p>
      )}
      <div className="conversations">
        {items.length > 0 && (
          <ul>
            {items.map((c) => (
              <li key={c.number}>
                <button aria-pressed={number === c.number} onClick={() => set("number", c.number)}>
                  <span className="mono">{c.number}</span>
                  {c.waiting && <span className="look"> ○ wants an answer</span>}
                  <span className="quiet small ms-auto">{when(c.at)}</span>
                  <span className="text">{c.text}</span>
                </button>
              </li>
            ))}
            {hasNextPage && (
              <More busy={isFetching} onClick={() => void fetchNextPage()}>
                Earlier ones
              </More>
            )}
          </ul>
        )}
        {number && <Thread key={number} number={number} />}
      </div>
      {items.length > 0 && <Export list="conversations" query={query} />}
    </div>
  );
}
