import { keepPreviousData, useQuery } from "@tanstack/react-query";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link, useSearchParams } from "react-router";
import { api, got, type Account, type Accounts, type Charged, type Money as Amount } from "../api/client";
import { amount, figures, type Figures, sums } from "../parts/amount";
import { Refused } from "../parts/Refused";
import { countryName } from "../parts/words";

type By = "gateway" | "country" | "gateway,country" | "month";

const sides: Record<By, string> = {
  gateway: "gateways side by side",
  country: "countries side by side",
  "gateway,country": "gateways and countries",
  month: "months side by side",
};

const cents = new Intl.NumberFormat("en-GB", { minimumFractionDigits: 2, maximumFractionDigits: 2 });

const monthName = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric", timeZone: "UTC" });

/** The first of this month and of those before it, in UTC, the latest first. */
function months(n: number): Date[] {
  const now = new Date();
  return Array.from({ length: n }, (_, i) => new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() - i, 1)));
}

const short = (month: Date) => month.toISOString().slice(0, 7);

const after = (month: Date) => new Date(Date.UTC(month.getUTCFullYear(), month.getUTCMonth() + 1, 1));

/** By how much charges are above the estimate of the same messages. */
function Above({ of, f }: { of: Charged; f: Figures }) {
  return of.over.map((m) => {
    const n = Number(m.amount);
    if (n === 0)
      return (
        <span key={m.currency} className="quiet">
          0
        </span>
      );
    return (
      <span key={m.currency} className={n > 0 ? "look" : undefined}>
        {n > 0 ? "+" : ""}
        {f(m)}{" "}
      </span>
    );
  });
}

function Sums({ all, f, none }: { all: Amount[]; f: Figures; none: string }) {
  if (all.length === 0) return <span className="quiet">{none}</span>;
  return all.map(f).join(" + ");
}

function Cells({ a, f, to }: { a: Account; f: Figures; to: string }) {
  return (
    <>
      <td className="text-end">
        <Link to={to}>{amount(a.messages)}</Link>
      </td>
      <td className="text-end mono">
        <Sums all={a.estimated} f={f} none="no price" />
      </td>
      <td className="text-end mono wide">
        <Sums all={a.told.charged} f={f} none="not told" />
      </td>
      <td className="text-end mono">
        <Above of={a.told} f={f} />
      </td>
      <td className="text-end mono wide">{a.billed && <Sums all={a.billed.charged} f={f} none="no bill" />}</td>
      <td className="text-end mono">{a.billed && <Above of={a.billed} f={f} />}</td>
    </>
  );
}

function Side({ r, f, to, only }: { r: Accounts; f: Figures; to: (a: Account) => string; only: (a: Account) => string }) {
  const name = (a: Account) =>
    r.by
      .map((by) =>
        by === "gateway" ? a.gateway : by === "country" ? countryName(a.country) || "no country" : monthName.format(new Date(a.at!)),
      )
      .join(", ");
  const head = { gateway: "Gateway", country: "Country", "gateway,country": "Gateway and country", month: "Month" }[r.by.join(",")];
  return (
    <Table className="dense accounts">
      <thead>
        <tr>
          <th>{head}</th>
          <th className="text-end">Messages</th>
          <th className="text-end">Estimated</th>
          <th className="text-end wide">Told</th>
          <th className="text-end">Told above</th>
          <th className="text-end wide">Billed</th>
          <th className="text-end">Billed above</th>
        </tr>
      </thead>
      <tbody>
        {r.groups.map((a) => (
          <tr key={name(a)}>
            <td>
              <Link to={only(a)}>{name(a)}</Link>
            </td>
            <Cells a={a} f={f} to={to(a)} />
          </tr>
        ))}
      </tbody>
      {r.groups.length > 1 && (
        <tfoot>
          <tr>
            <td>Together</td>
            <Cells a={r.all} f={f} to={to(r.all)} />
          </tr>
        </tfoot>
      )}
    </Table>
  );
}

/** What of an account is not in its sums, and what could be spared. */
function Remarks({ a }: { a: Account }) {
  return (
    <ul className="remarks">
      {a.avoidable_messages > 0 && (
        <li>
          Characters such as curly quotes cost <b>{sums(a.avoidable)}</b> of the estimate, in {amount(a.avoidable_messages)}{" "}
          {a.avoidable_messages === 1 ? "message" : "messages"}. <Link to="/send">Weigh a text</Link> to see them;{" "}
          <span className="mono">--cure safe</span> on a key, a template or a batch replaces them.
        </li>
      )}
      {a.unpriced > 0 && (
        <li>
          {amount(a.unpriced)} of the messages have no price here: <Link to="/prices">set what the gateway charges</Link>.
        </li>
      )}
      {a.told.messages > a.told.compared && (
        <li>{amount(a.told.messages - a.told.compared)} were charged for, and have no estimate in that currency: they are not compared.</li>
      )}
      {a.foreign_lines > 0 && (
        <li>
          <Link to="/statements">
            {a.foreign_lines === 1 ? "1 line of statements is" : `${amount(a.foreign_lines)} lines of statements are`}
          </Link>{" "}
          about no message here, and bill {sums(a.foreign ?? [])}.
        </li>
      )}
    </ul>
  );
}

/** One sentence that says what it comes to. */
function summary(r: Accounts): string {
  const a = r.all;
  if (a.messages === 0 && a.foreign_lines === 0 && !a.billed?.messages) return "Nothing was spent";
  const dearer = [a.told, ...(a.billed ? [a.billed] : [])].some((c) => c.over.some((m) => Number(m.amount) > 0));
  const cost =
    a.estimated.length === 0
      ? "at a price that is not known"
      : `for ${a.estimated.map((m) => `${cents.format(Number(m.amount))} ${m.currency}`).join(" + ")}`;
  const more = dearer ? ", and more was charged than estimated" : "";
  return `${amount(a.messages)} ${a.messages === 1 ? "message" : "messages"} ${cost}${more}`;
}

/** What messages cost: estimated, told by gateways, and billed, side by side. */
export function Money() {
  const [search, setSearch] = useSearchParams();
  const all = months(13);
  const month = all.find((m) => short(m) === search.get("month")) ?? all[0]!;
  const gateway = search.get("gateway") ?? undefined;
  const country = search.get("country") ?? undefined;
  const by = (sides[search.get("by") as By] ? search.get("by") : gateway ? "country" : "gateway") as By;
  const gateways = useQuery({ queryKey: ["gateways"], queryFn: () => got(api.GET("/v1/gateways")), staleTime: 60e3 });
  const [from, until] = by === "month" ? [all.at(-1)!, after(all[0]!)] : [month, after(month)];
  const choice = { since: from.toISOString(), until: until.toISOString(), by, gateway, country };
  const { data, error } = useQuery({
    queryKey: ["money", choice],
    queryFn: () => got(api.GET("/v1/money", { params: { query: choice } })),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const address = (changes: Record<string, string | undefined>) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    return next;
  };
  const set = (changes: Record<string, string | undefined>) => setSearch(address(changes));
  const of = (a: Account) => {
    const [at, end] = a.at ? [new Date(a.at), after(new Date(a.at))] : [from, until];
    return { at, end, gateway: a.gateway || gateway, country: a.country || country };
  };
  const messages = (a: Account) => {
    const { at, end, ...which } = of(a);
    const q = new URLSearchParams({ since: at.toISOString(), until: end.toISOString() });
    for (const [name, value] of Object.entries(which)) if (value) q.set(name, value);
    return `/messages?${q}`;
  };
  const only = (a: Account) => {
    const { at, gateway, country } = of(a);
    return `/money?${address({ month: a.at ? short(at) : (search.get("month") ?? undefined), gateway, country, by: undefined })}`;
  };
  const f = data
    ? figures(
        [data.all, ...data.groups].flatMap((a) => [
          ...a.estimated,
          ...a.told.charged,
          ...a.told.over,
          ...(a.billed ? [...a.billed.charged, ...a.billed.over] : []),
        ]),
      )
    : undefined;
  return (
    <div className="page">
      <p className="mb-1">
        <Link to="/">Today</Link>
      </p>
      <h1>
        {data ? summary(data) : "\u00a0"}{" "}
        <span className="quiet fw-normal fs-6">{by === "month" ? "in thirteen months" : `in ${monthName.format(month)}`}</span>
      </h1>
      <p className="quiet">
        By your <Link to="/prices">price lists</Link>, as gateways told when they took messages, and as their{" "}
        <Link to="/statements">statements</Link> bill{f?.currency && `; in ${f.currency}`}. Days are those of UTC. Beside a charge stands by
        how much it is above what was estimated for the same messages.
      </p>
      <div className="filters">
        <Form.Select
          size="sm"
          aria-label="Month"
          value={by === "month" ? "" : short(month)}
          onChange={(e) => set({ month: e.target.value, by: by === "month" ? undefined : by })}
        >
          {by === "month" && <option value="">thirteen months</option>}
          {all.map((m) => (
            <option key={short(m)} value={short(m)}>
              {monthName.format(m)}
            </option>
          ))}
        </Form.Select>
        <Form.Select
          size="sm"
          aria-label="Gateway"
          value={gateway ?? ""}
          onChange={(e) => set({ gateway: e.target.value || undefined, by: undefined })}
        >
          <option value="">every gateway</option>
          {gateways.data?.items.map((g) => (
            <option key={g.id}>{g.name}</option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="Side by side" value={by} onChange={(e) => set({ by: e.target.value })}>
          {Object.entries(sides).map(([name, words]) => (
            <option key={name} value={name}>
              {words}
            </option>
          ))}
        </Form.Select>
        {country && (
          <span className="align-self-center">
            to <b>{countryName(country)}</b>
          </span>
        )}
        {(gateway || country) && (
          <Link className="align-self-center" to={`/money?${address({ gateway: undefined, country: undefined, by: undefined })}`}>
            show all
          </Link>
        )}
      </div>
      {error && !data && <Refused error={error} />}
      {data && data.groups.length === 0 && (
        <p className="empty">
          Nothing went to a gateway in this time. What is sent stands here by what it should cost, as soon as it goes.
        </p>
      )}
      {data && f && data.groups.length > 0 && (
        <>
          <Side r={data} f={f} to={messages} only={only} />
          <Remarks a={data.all} />
        </>
      )}
    </div>
  );
}
