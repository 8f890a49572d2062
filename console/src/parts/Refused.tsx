import { Refusal } from "../api/client";

/** What the service refused, in its own words. */
export function Refused({ error }: { error: unknown }) {
  const problem = error instanceof Refusal ? error.problem : { title: String(error), detail: undefined, errors: undefined };
  return (
    <div className="notice wrong" role="alert">
      {problem.title}. {problem.detail}
      {problem.errors?.map((e) => <div key={e.field}>{e.field}: {e.wrong}. Accepted: {e.accepted}.</div>)}
    </div>
  );
}

/** What is wrong with one field, under it. */
export function Fault({ error, field }: { error: unknown; field: string }) {
  const found = error instanceof Refusal ? error.problem.errors?.find((e) => e.field === field) : undefined;
  if (!found) return null;
  return (
    <div className="fault" id={`${field}-fault`}>
      {found.wrong}
      <span>Accepted: {found.accepted}.</span>
    </div>
  );
}
