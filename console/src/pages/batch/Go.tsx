import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { Link } from "react-router";
import { api, got, Refusal, type Batch, type LaunchGiven } from "../../api/client";
import { amount } from "../../parts/amount";
import { Refused } from "../../parts/Refused";
import { Forecast } from "./Forecast";

/** One row to oneself, and then the launch. */
export function Go({ batch, launched }: { batch: Batch; launched: () => void }) {
  const [to, setTo] = useState("");
  const [scouts, setScouts] = useState("");
  const [pace, setPace] = useState("");
  const [starts, setStarts] = useState("");
  const [evenly, setEvenly] = useState("");
  const [budget, setBudget] = useState("");
  const [again, setAgain] = useState(false);
  const path = { id: batch.id };
  const attempt = useMutation({ mutationFn: () => got(api.POST("/v1/batches/{id}/try", { params: { path }, body: { to } })) });
  const moment = (at: string) => (at ? new Date(at).toISOString() : undefined);
  const orders: LaunchGiven = { scouts, pace, budget, starts_at: moment(starts), evenly: moment(evenly) };
  const launch = useMutation({
    mutationFn: () => got(api.POST("/v1/batches/{id}/launch", { params: { path }, body: { ...orders, again } })),
    onSuccess: launched,
  });
  const same = launch.error instanceof Refusal && launch.error.problem.type.endsWith(":same-again");
  return (
    <section className="step" id="launch">
      <h2>Launch</h2>
      <Form className="filters" onSubmit={(e) => { e.preventDefault(); attempt.mutate(); }}>
        <Form.Control className="w-auto mono" value={to} aria-label="Your own number" placeholder="+447700900123"
          onChange={(e) => setTo(e.target.value)} />
        <Button type="submit" variant="outline-primary" disabled={!to.trim() || attempt.isPending}>Send the longest to me first</Button>
        {attempt.data && <Link to={`/messages/${attempt.data.id}`}>How it fares</Link>}
      </Form>
      {attempt.error && <Refused error={attempt.error} />}
      <Form onSubmit={(e) => { e.preventDefault(); launch.mutate(); }}>
        <div className="launch">
          <div className="field">
            <Form.Label htmlFor="scouts">Scouts that go first</Form.Label>
            <Form.Control id="scouts" value={scouts} placeholder="none; or 50, or 2%" onChange={(e) => setScouts(e.target.value)} />
          </div>
          <div className="field">
            <Form.Label htmlFor="pace">Not faster than</Form.Label>
            <Form.Control id="pace" value={pace} placeholder="as gateways go; or 500/s" onChange={(e) => setPace(e.target.value)} />
          </div>
          <div className="field">
            <Form.Label htmlFor="starts">Starts</Form.Label>
            <Form.Control id="starts" type="datetime-local" value={starts} onChange={(e) => setStarts(e.target.value)} />
          </div>
          <div className="field">
            <Form.Label htmlFor="evenly">Spread evenly until</Form.Label>
            <Form.Control id="evenly" type="datetime-local" value={evenly} onChange={(e) => setEvenly(e.target.value)} />
          </div>
          <div className="field">
            <Form.Label htmlFor="budget">Spend at most</Form.Label>
            <Form.Control id="budget" value={budget} placeholder="any amount; or 30 EUR" onChange={(e) => setBudget(e.target.value)} />
          </div>
        </div>
        {launch.error && <Refused error={launch.error} />}
        {(same || again) && (
          <Form.Check id="again" className="mb-2" label="send it again to those who got it" checked={again}
            onChange={(e) => setAgain(e.target.checked)} />
        )}
        <Button type="submit" disabled={launch.isPending}>
          Send {amount(batch.totals?.goes ?? 0)} messages{scouts && `, ${scouts} first`}
        </Button>
        {/* Below: what comes a moment later must not move what is about to be pressed. */}
        {!launch.error && <Forecast batch={batch} launch={orders} />}
      </Form>
    </section>
  );
}
