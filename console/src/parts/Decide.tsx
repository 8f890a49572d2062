import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { api, got, Refusal, type Message } from "../api/client";
import { Refused } from "./Refused";

const verdicts = [
  ["delivered", "It arrived", "It reached the handset after all."],
  ["failed", "It did not arrive", "The gateway took it, and the handset never had it."],
  ["not_sent", "It was never sent", "No gateway took it."],
  ["send_again", "Send it again", "Whatever became of it. It may arrive twice."],
  ["leave", "Leave it", "It stays as it is, and wants nobody any more."],
] as const;

type Verdict = (typeof verdicts)[number][0] | "take_back";

/** Deciding about a message of which nobody knows the end, or two are claimed. */
export function Decide({ m }: { m: Message }) {
  const queries = useQueryClient();
  const [why, setWhy] = useState("");
  const decide = useMutation({
    mutationFn: async (decision: Verdict) => {
      const done = await got(api.POST("/v1/decisions", { body: { messages: [m.id], decision, why, dry_run: false } }));
      const refused = done.refused[0];
      if (refused) throw new Refusal({ type: "", title: "Nothing was decided", status: 409, detail: `${refused.why}.` });
    },
    onSuccess: () => setWhy(""),
    onSettled: () => {
      void queries.invalidateQueries({ queryKey: ["messages"] });
      void queries.invalidateQueries({ queryKey: ["attention"] });
    },
  });
  const wanted = m.state === "doubtful" || m.state === "unknown" || m.rivals.length > 1 || m.weak;
  if (!wanted && !m.decided) return null;
  return (
    <div className={wanted ? "notice" : "mb-3"}>
      {m.decided && (
        <p>
          This was decided.{" "}
          <Button size="sm" variant="link" disabled={decide.isPending} onClick={() => decide.mutate("take_back")}>
            Take it back
          </Button>
        </p>
      )}
      {m.weak && <p>Nothing names this message, and what was said can only belong to it. Anything better takes its place.</p>}
      {m.rivals.length > 1 && <p>Claims contradict each other: {m.rivals.join(" and ")}. The handset's own word counts most.</p>}
      {m.state === "doubtful" && <p>It may have gone: no answer said whether the gateway took it.</p>}
      {m.state === "unknown" && !m.decided && <p>The time in which anyone might have told what became of it is over.</p>}
      {wanted && (
        <Form className="filters mb-0" onSubmit={(e) => e.preventDefault()}>
          <Form.Control
            className="w-auto"
            size="sm"
            value={why}
            aria-label="Why"
            placeholder="If you know better, how"
            onChange={(e) => setWhy(e.target.value)}
          />
          {verdicts.map(([verdict, words, means]) => (
            <Button
              key={verdict}
              size="sm"
              variant="outline-primary"
              title={means}
              disabled={decide.isPending}
              onClick={() => {
                if (verdict !== "send_again" || confirm("It may have arrived already. Send it again?")) decide.mutate(verdict);
              }}
            >
              {words}
            </Button>
          ))}
        </Form>
      )}
      {decide.error && <Refused error={decide.error} />}
    </div>
  );
}
