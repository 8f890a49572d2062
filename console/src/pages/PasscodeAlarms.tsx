import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { Link } from "react-router";
import { api, got, type PasscodeAlarm, type PasscodeRule } from "../api/client";
import { amount } from "../parts/amount";
import { Refused } from "../parts/Refused";
import { when } from "../parts/time";
import { Undo } from "../parts/Undo";
import { countryName } from "../parts/words";

/** What can be done because of an alarm. */
const acts: Record<PasscodeAlarm["act"], string> = {
  alarm: "told, nothing more",
  slow: "gets few codes",
  block: "gets no codes",
};

const name = (a: PasscodeAlarm) => (a.what === "country" ? countryName(a.value) : `${a.what} ${a.value}`);

/** What it stopped, and what that saved. */
function stopped(a: PasscodeAlarm): string {
  if (a.stopped === 0) return "nothing was stopped yet";
  const saved = a.saved.map((m) => `${m.amount} ${m.currency}`).join(" and ");
  return `${amount(a.stopped)} ${a.stopped === 1 ? "code" : "codes"} stopped${saved && `, about ${saved} saved`}`;
}

function Alarm({ a, lifted }: { a: PasscodeAlarm; lifted: (a: PasscodeAlarm) => void }) {
  const queries = useQueryClient();
  const done = () => void queries.invalidateQueries({ queryKey: ["passcode alarms"] });
  const path = { path: { id: a.id } };
  const act = useMutation({
    mutationFn: (act: PasscodeAlarm["act"]) => got(api.POST("/v1/passcode-alarms/{id}/act", { params: path, body: { act } })),
    onSuccess: done,
  });
  const lift = useMutation({
    mutationFn: () => got(api.POST("/v1/passcode-alarms/{id}/lift", { params: path, body: {} })),
    onSuccess: () => {
      lifted(a);
      done();
    },
  });
  return (
    <article className="alarm">
      <h3>
        {name(a)}: {a.about}
      </h3>
      <p>{a.say}</p>
      {(act.error ?? lift.error) && <Refused error={act.error ?? lift.error} />}
      <div className="filters">
        <Form.Select
          size="sm"
          aria-label={`What is done about ${name(a)}`}
          value={a.act}
          disabled={act.isPending}
          onChange={(e) => act.mutate(e.target.value as PasscodeAlarm["act"])}
        >
          {Object.entries(acts).map(([word, says]) => (
            <option key={word} value={word}>
              {says}
            </option>
          ))}
        </Form.Select>
        <Button size="sm" variant="outline-primary" disabled={lift.isPending} onClick={() => lift.mutate()}>
          It is honest
        </Button>
        <span className="quiet">
          until {when(a.until)}; {stopped(a)}
        </span>
      </div>
      {a.sample.length > 0 && (
        <details>
          <summary className="quiet">{a.sample.length === 1 ? "One of the numbers" : `${a.sample.length} of the numbers`}</summary>
          <Table size="sm" className="w-auto">
            <tbody>
              {a.sample.map((s) => (
                <tr key={s.passcode}>
                  <td>
                    <Link className="mono" to={`/passcodes/${s.passcode}`}>
                      {s.number}
                    </Link>
                  </td>
                  <td>{when(s.at)}</td>
                  <td>{s.codes === 1 ? "1 code" : `${s.codes} codes`}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </details>
      )}
    </article>
  );
}

/** What looks like fraud; nothing if nothing does. */
export function Alarms() {
  const queries = useQueryClient();
  const [lifted, setLifted] = useState<PasscodeAlarm>();
  const { data, error } = useQuery({
    queryKey: ["passcode alarms"],
    queryFn: () => got(api.GET("/v1/passcode-alarms")),
    refetchInterval: 5000,
  });
  const restore = useMutation({
    mutationFn: (a: PasscodeAlarm) => got(api.POST("/v1/passcode-alarms/{id}/restore", { params: { path: { id: a.id } }, body: {} })),
    onSuccess: () => {
      setLifted(undefined);
      void queries.invalidateQueries({ queryKey: ["passcode alarms"] });
    },
  });
  return (
    <section aria-label="Alarms" className="mt-3">
      {(error ?? restore.error) && <Refused error={error ?? restore.error} />}
      {lifted && (
        <Undo
          what={`The alarm about ${name(lifted)} was lifted. It raises no other before there is more than twice as much.`}
          undo={() => restore.mutate(lifted)}
        />
      )}
      {data && data.items.length > 0 && (
        <>
          <h2>{data.items.length === 1 ? "This looks like fraud" : `${data.items.length} things look like fraud`}</h2>
          {data.items.map((a) => (
            <Alarm key={a.id} a={a} lifted={setLifted} />
          ))}
        </>
      )}
    </section>
  );
}

const rules: Record<PasscodeRule["act"], string> = { off: "nothing: it is not judged", ...acts };

/** What is done when a rule finds something. */
export function Rules() {
  const queries = useQueryClient();
  const { data, error } = useQuery({ queryKey: ["passcode rules"], queryFn: () => got(api.GET("/v1/passcode-rules")) });
  const set = useMutation({
    mutationFn: (one: PasscodeRule) => {
      const items = (data?.items ?? []).filter((r) => r.set && r.rule !== one.rule).map(({ rule, act }) => ({ rule, act }));
      return got(api.PUT("/v1/passcode-rules", { body: { items: [...items, { rule: one.rule, act: one.act }] } }));
    },
    onSuccess: (now) => queries.setQueryData(["passcode rules"], now),
  });
  return (
    <section className="mt-4">
      <h2>What looks like fraud, and what is done then</h2>
      {(error ?? set.error) && <Refused error={error ?? set.error} />}
      <div className="rules">
        {(data?.items ?? []).map((r) => (
          <Form.Group key={r.rule} controlId={`rule-${r.rule}`}>
            <Form.Label>{r.about}</Form.Label>
            <Form.Select
              size="sm"
              value={r.act}
              disabled={set.isPending}
              onChange={(e) => set.mutate({ ...r, act: e.target.value as PasscodeRule["act"] })}
            >
              {Object.entries(rules).map(([act, says]) => (
                <option key={act} value={act}>
                  {says}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
        ))}
      </div>
    </section>
  );
}
