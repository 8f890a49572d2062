import type { Trial } from "../api/client";
import { Raw } from "./Raw";

/** What came of trying a gateway out: one sentence, what it looks like, and every exchange. */
export function TrialResult({ trial }: { trial: Trial }) {
  return (
    <section aria-live="polite" className="trial">
      <p className={trial.passed ? "" : "notice wrong"} role="status">{trial.say}</p>
      {trial.mistakes.length > 0 && (
        <>
          <h2>What it looks like</h2>
          <ul>{trial.mistakes.map((m) => <li key={m}>{m}</li>)}</ul>
        </>
      )}
      {trial.steps.map((s, i) => (
        <div key={i} className="mb-3">
          <h2>{s.what} <span className="quiet fw-normal">
            {s.answer_ms > 0 && `${s.build_ms.toFixed(1)} ms to build, ${s.answer_ms.toFixed(1)} ms until the answer was complete, ${s.read_ms.toFixed(1)} ms to read`}
          </span></h2>
          {s.read != null && <p>Read from it: <span className="mono">{JSON.stringify(s.read)}</span></p>}
          {s.note && <p>{s.note}</p>}
          {s.exchange && <Raw x={s.exchange} />}
        </div>
      ))}
    </section>
  );
}
