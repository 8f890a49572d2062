import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { api, got, type PasscodeBlock, type PasscodeLimit } from "../api/client";
import { amount } from "../parts/amount";
import { Fault, Refused } from "../parts/Refused";
import { when } from "../parts/time";

const things: Record<PasscodeLimit["by"], string> = {
  number: "a number",
  address: "an address",
  network: "a network",
  site: "a site (IPv6 /48)",
  range: "a range of 1,000 numbers",
  stretch: "a stretch of 100,000 numbers",
  purpose: "a purpose",
  country: "a country",
  key: "a key",
};

/** How many are sent at most. */
export function Limits() {
  const queries = useQueryClient();
  const [form, setForm] = useState({ by: "number" as PasscodeLimit["by"], window: "hour" as PasscodeLimit["window"], most: "" });
  const { data, error } = useQuery({ queryKey: ["passcode limits"], queryFn: () => got(api.GET("/v1/passcode-limits")) });
  const same = (l: PasscodeLimit) => l.by === form.by && l.window === form.window;
  const set = useMutation({
    mutationFn: (usual: boolean) => {
      const items = (data?.items ?? []).filter((l) => l.set && !same(l)).map(({ by, window, most }) => ({ by, window, most }));
      if (!usual) items.push({ by: form.by, window: form.window, most: form.most === "" ? null : Number(form.most) });
      return got(api.PUT("/v1/passcode-limits", { body: { items } }));
    },
    onSuccess: (now) => queries.setQueryData(["passcode limits"], now),
  });
  const by = new Map<PasscodeLimit["by"], PasscodeLimit[]>();
  for (const l of data?.items ?? []) by.set(l.by, [...(by.get(l.by) ?? []), l]);
  const change = (to: Partial<typeof form>) => {
    set.reset();
    setForm({ ...form, ...to });
  };
  return (
    <section className="mt-4">
      <h2>Limits</h2>
      {(error ?? set.error) && <Refused error={error ?? set.error} />}
      <ul className="plain">
        {[...by].map(([what, all]) => (
          <li key={what}>
            For {things[what]}:{" "}
            {all.map((l) => `${l.most === null ? "no limit" : amount(l.most)} a${l.window === "hour" ? "n" : ""} ${l.window}`).join(", ")}
            {all.some((l) => l.set) && <span className="quiet"> (set)</span>}
          </li>
        ))}
      </ul>
      <p className="quiet mb-2">No window, wherever it begins, holds more.</p>
      <Form
        className="filters"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate(false);
        }}
      >
        <Form.Select
          size="sm"
          aria-label="For each"
          value={form.by}
          onChange={(e) => change({ by: e.target.value as PasscodeLimit["by"] })}
        >
          {Object.entries(things).map(([what, says]) => (
            <option key={what} value={what}>
              for {says}
            </option>
          ))}
        </Form.Select>
        <Form.Control
          size="sm"
          type="number"
          min={0}
          max={1000000}
          style={{ width: "7rem" }}
          aria-label="At most; nothing for no limit"
          placeholder="no limit"
          value={form.most}
          onChange={(e) => change({ most: e.target.value })}
        />
        <Form.Select
          size="sm"
          aria-label="In a"
          value={form.window}
          onChange={(e) => change({ window: e.target.value as PasscodeLimit["window"] })}
        >
          {["minute", "hour", "day"].map((w) => (
            <option key={w} value={w}>
              {w === "hour" ? "an" : "a"} {w}
            </option>
          ))}
        </Form.Select>
        <Button size="sm" type="submit" disabled={set.isPending || !data}>
          Set
        </Button>
        {data?.items.some((l) => l.set && same(l)) && (
          <Button size="sm" variant="link" disabled={set.isPending} onClick={() => set.mutate(true)}>
            As usual
          </Button>
        )}
      </Form>
    </section>
  );
}

/** What gets none. */
export function Blocks() {
  const queries = useQueryClient();
  const [form, setForm] = useState({ what: "number", value: "", for: "24h", why: "" });
  const { data, error } = useQuery({
    queryKey: ["passcode blocks"],
    queryFn: () => got(api.GET("/v1/passcode-blocks")),
    refetchInterval: 5000,
  });
  const done = () => void queries.invalidateQueries({ queryKey: ["passcode blocks"] });
  const lift = useMutation({
    mutationFn: (b: PasscodeBlock) => got(api.POST("/v1/passcode-blocks/{id}/lift", { params: { path: { id: b.id } }, body: {} })),
    onSuccess: done,
  });
  const add = useMutation({
    mutationFn: () => got(api.POST("/v1/passcode-blocks", { body: form as never })),
    onSuccess: () => {
      setForm({ ...form, value: "", why: "" });
      done();
    },
  });
  const field = (name: "value" | "for" | "why", label: string, hint: string) => (
    <div>
      <Form.Control
        size="sm"
        aria-label={label}
        placeholder={hint}
        value={form[name]}
        onChange={(e) => {
          add.reset();
          setForm({ ...form, [name]: e.target.value });
        }}
      />
      <Fault error={add.error} field={name} />
    </div>
  );
  return (
    <section className="mt-4">
      <h2>Blocked</h2>
      {(error ?? lift.error) && <Refused error={error ?? lift.error} />}
      {data && data.items.length === 0 && (
        <p className="quiet">Nothing is. What is blocked gets no passcodes, until it is lifted or its time is over.</p>
      )}
      {data && data.items.length > 0 && (
        <Table className="dense">
          <thead>
            <tr>
              <th>What</th>
              <th>Until</th>
              <th>By</th>
              <th className="wide">Why</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {data.items.map((b) => (
              <tr key={b.id}>
                <td>
                  {b.what} <span className="mono">{b.value}</span>
                </td>
                <td>{b.until ? when(b.until) : "for good"}</td>
                <td>{b.by}</td>
                <td className="wide">{b.why}</td>
                <td className="text-end">
                  <Button size="sm" variant="link" className="p-0" disabled={lift.isPending} onClick={() => lift.mutate(b)}>
                    Lift
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <Form
        className="filters"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Form.Select
          size="sm"
          aria-label="What"
          value={form.what}
          onChange={(e) => {
            add.reset();
            setForm({ ...form, what: e.target.value });
          }}
        >
          {["number", "range", "stretch", "country", "address", "network", "site"].map((w) => (
            <option key={w}>{w}</option>
          ))}
        </Form.Select>
        {field("value", "Value", "which one")}
        {field("for", "For how long", "for good")}
        {field("why", "Why", "why")}
        <Button size="sm" type="submit" disabled={add.isPending || !form.value}>
          Block
        </Button>
      </Form>
    </section>
  );
}
