import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment } from "react";
import Button from "react-bootstrap/Button";
import Table from "react-bootstrap/Table";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Message, type Money, type StatementHeaps, type StatementLine } from "../api/client";
import { Export } from "../parts/Export";
import { More } from "../parts/More";
import { Refused } from "../parts/Refused";
import { StateBadge } from "../parts/StateBadge";
import { brief, when } from "../parts/time";

const heaps = [
  ["agrees", "agree", "well"],
  ["state", "state differs", "wrong"],
  ["money", "money differs", "look"],
  ["theirs", "only theirs", "look"],
  ["ours", "only ours", "look"],
] as const;

type Heap = (typeof heaps)[number][0];

const number = new Intl.NumberFormat("en-GB");
const money = (m: Money) => `${m.amount} ${m.currency}`;
const moneys = (all: Money[]) => all.map(money).join(" and ") || "nothing";

/** The heaps as a bar and an equation, each of whose numbers leads to what it counts. */
function Heaps({ h, chosen }: { h: StatementHeaps; chosen: Heap }) {
  const both = h.agrees + h.state + h.money;
  const term = (heap: Heap, words: string) => (
    <Link to={`?heap=${heap}`} className={heap === chosen ? "fw-bold" : undefined}>
      {number.format(h[heap])} {words}
    </Link>
  );
  return (
    <section className="tally" aria-label="Heaps">
      <div className="bar" aria-hidden="true">
        {heaps.map(
          ([heap, words, how]) =>
            h[heap] > 0 && (
              <Link
                key={heap}
                to={`?heap=${heap}`}
                tabIndex={-1}
                className={how}
                style={{ flexGrow: h[heap] }}
                title={`${number.format(h[heap])} ${words}`}
              />
            ),
        )}
      </div>
      <div className="sum">
        {number.format(both + h.theirs)} lines ={" "}
        {heaps.slice(0, 4).map(([heap, words], i) => (
          <Fragment key={heap}>
            {i > 0 && " + "}
            {term(heap, words)}
          </Fragment>
        ))}
      </div>
      <div className="sum">
        {number.format(both + h.ours)} messages = {number.format(both)} with a line + {term("ours", "only ours")}
      </div>
    </section>
  );
}

function Line({ l }: { l: StatementLine }) {
  return (
    <tr>
      <td>{l.n}</td>
      <td className="mono text-nowrap">{l.gateway_ref || l.reference}</td>
      <td className="mono text-nowrap">{l.number}</td>
      <td className="text-nowrap">{l.at && when(l.at)}</td>
      <td>{l.wrong ? <span className="fault">{l.wrong}</span> : l.state && <StateBadge state={l.state} />}</td>
      <td>{l.ours_state && <StateBadge state={l.ours_state} />}</td>
      <td className="text-end">
        {l.segments || ""}
        {l.message && l.segments > 0 && l.segments !== l.ours_segments && <span className="quiet"> / {l.ours_segments}</span>}
      </td>
      <td className="text-end text-nowrap">
        {l.charge && money(l.charge)}
        {l.ours_price && l.charge && l.charge.amount !== l.ours_price.amount && <span className="quiet"> / {l.ours_price.amount}</span>}
      </td>
      <td>
        {l.message ? (
          <Link className="mono" to={`/messages/${l.message}`}>
            {brief(l.message)}
          </Link>
        ) : (
          <span className="quiet">{{ tied: "could be several", unreadable: "cannot be read" }[l.how as "tied"] ?? "none"}</span>
        )}
        {l.how === "number" && <span className="quiet"> by number and time</span>}
      </td>
    </tr>
  );
}

function Ours({ m }: { m: Message }) {
  return (
    <tr>
      <td className="text-nowrap">
        <Link to={`/messages/${m.id}`}>{when(m.created_at)}</Link>
      </td>
      <td>
        <StateBadge state={m.state} m={m} />
      </td>
      <td className="mono">{m.to}</td>
      <td className="mono">{m.gateway_ref}</td>
      <td className="text-end">{m.segments}</td>
      <td className="text-end">{m.price && money(m.price)}</td>
    </tr>
  );
}

/** One statement, and the heaps into which it falls. */
export function StatementPage() {
  const { id = "" } = useParams();
  const [search] = useSearchParams();
  const queries = useQueryClient();
  const heap = (search.get("heap") ?? "state") as Heap;
  const path = { params: { path: { id } } };
  const { data: s, error } = useQuery({
    queryKey: ["statements", id],
    queryFn: () => got(api.GET("/v1/statements/{id}", path)),
    refetchInterval: (q) => (q.state.data && ["done", "withdrawn"].includes(q.state.data.state) ? false : 500),
  });
  const lines = useInfiniteQuery({
    queryKey: ["statements", id, "lines", heap, s?.state],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/v1/statements/{id}/lines", {
          params: { path: { id }, query: { heap: heap as "state", cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    enabled: heap !== "ours" && Boolean(s?.heaps),
  });
  const ours = useInfiniteQuery({
    queryKey: ["statements", id, "ours", s?.state],
    queryFn: ({ pageParam }) =>
      got(api.GET("/v1/statements/{id}/ours", { params: { path: { id }, query: { cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    enabled: heap === "ours" && Boolean(s?.heaps),
  });
  const withdraw = useMutation({
    mutationFn: () => got(api.POST("/v1/statements/{id}/withdraw", { ...path, body: {} })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["statements"] });
      void queries.invalidateQueries({ queryKey: ["messages"] });
    },
  });
  if (error && !s)
    return (
      <div className="page">
        <Refused error={error} />
        <Link to="/statements">All statements</Link>
      </div>
    );
  if (!s) return <div className="page" />;
  const h = s.heaps;
  const found = lines.data?.pages.flatMap((p) => p.items) ?? [];
  const mine = ours.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <div className="page">
      <p className="mb-1">
        <Link to="/statements">Statements</Link>
      </p>
      <h1>
        {s.name}{" "}
        <span className="quiet fw-normal fs-6">
          of <Link to={`/gateways/${s.gateway}`}>{s.gateway}</Link>
          {s.from && s.until && `, ${when(s.from)} to ${when(s.until)}`}
        </span>
      </h1>
      {s.state === "withdrawn" && (
        <p className="notice">
          Withdrawn by {s.withdrawn_by}
          {s.withdrawn_why && `: ${s.withdrawn_why}`}. What it said counts no more.
        </p>
      )}
      {!h && <p className="quiet">{number.format(s.lines)} lines were read; they are being matched.</p>}
      {h && <Heaps h={h} chosen={heap} />}
      {h && (
        <dl className="facts mt-3">
          {h.their_segments > 0 && (
            <>
              <dt>Segments</dt>
              <dd>
                {number.format(h.our_segments)} by us, {number.format(h.their_segments)} by the gateway
              </dd>
            </>
          )}
          <dt>Money</dt>
          <dd>
            {moneys(h.estimated)} estimated, {moneys(h.billed)} billed
            {h.unmatched.length > 0 && `; ${moneys(h.unmatched)} billed for lines of no message`}
          </dd>
          {h.tied > 0 && (
            <>
              <dt>Tied</dt>
              <dd>{number.format(h.tied)} lines could be several, or are about the same message as another</dd>
            </>
          )}
          {h.unreadable > 0 && (
            <>
              <dt>Unreadable</dt>
              <dd>{number.format(h.unreadable)} lines</dd>
            </>
          )}
          {h.weak > 0 && (
            <>
              <dt>Weakly</dt>
              <dd>{h.weak === 1 ? "1 was" : `${number.format(h.weak)} were`} matched by number and time alone</dd>
            </>
          )}
        </dl>
      )}
      {withdraw.error && <Refused error={withdraw.error} />}
      {h && s.state === "done" && (
        <p>
          <Button
            variant="link"
            className="text-danger"
            disabled={withdraw.isPending}
            onClick={() => {
              if (confirm("Take all back that it said? Its file may be taken in again.")) withdraw.mutate();
            }}
          >
            Withdraw it
          </Button>
        </p>
      )}
      {h && <h2>{heaps.find(([name]) => name === heap)?.[1].replace(/^./, (c) => c.toUpperCase())}</h2>}
      {h && h[heap] === 0 && <p className="empty">Nothing lies on this heap.</p>}
      {heap !== "ours" && found.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>Line</th>
              <th>Its id</th>
              <th>Number</th>
              <th>When</th>
              <th>It says</th>
              <th>We had</th>
              <th className="text-end">Segments</th>
              <th className="text-end">Charge</th>
              <th>Message</th>
            </tr>
          </thead>
          <tbody>
            {found.map((l) => (
              <Line key={l.n} l={l} />
            ))}
          </tbody>
        </Table>
      )}
      {heap === "ours" && mine.length > 0 && (
        <Table className="w-auto">
          <thead>
            <tr>
              <th>Created</th>
              <th>State</th>
              <th>To</th>
              <th>Gateway's id</th>
              <th className="text-end">Segments</th>
              <th className="text-end">Price</th>
            </tr>
          </thead>
          <tbody>
            {mine.map((m) => (
              <Ours key={m.id} m={m} />
            ))}
          </tbody>
        </Table>
      )}
      {h &&
        h[heap] > 0 &&
        (heap === "ours" ? <Export list={`statements/${id}/ours`} /> : <Export list={`statements/${id}/lines`} query={{ heap }} />)}
      {heap !== "ours" && lines.hasNextPage && (
        <More busy={lines.isFetching} onClick={() => void lines.fetchNextPage()}>
          More lines
        </More>
      )}
      {heap === "ours" && ours.hasNextPage && (
        <More busy={ours.isFetching} onClick={() => void ours.fetchNextPage()}>
          More messages
        </More>
      )}
    </div>
  );
}
