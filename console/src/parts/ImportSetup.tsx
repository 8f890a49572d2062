import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { api, got } from "../api/client";
import { Refused } from "./Refused";

/** Takes a set-up in: checked first, then all of it or nothing. */
export function ImportSetup({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const [source, setSource] = useState("");
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const names = [...new Set([...source.matchAll(/\$\{([A-Z0-9_]+)\}/g)].map((m) => m[1]!))];
  const put = useMutation({
    mutationFn: (dry_run: boolean) => got(api.PUT("/v1/setup", { params: { query: { dry_run } }, body: { source, secrets: Object.fromEntries(Object.entries(secrets).filter(([, v]) => v)) } })),
    onSuccess: (_, dry) => { if (!dry) { void queries.invalidateQueries(); } },
  });
  const parts: [string, string[]][] = put.data ? [["new", put.data.new], ["changed", put.data.changed], ["as it was", put.data.same]] : [];
  return (
    <Form className="narrow" noValidate onSubmit={(e) => { e.preventDefault(); put.mutate(false); }}>
      <h2>Take a set-up in</h2>
      <p className="quiet">Gateways, routes, senders, rules and templates from a file as export writes it. All of it or nothing; what it does not name stays.</p>
      <Form.Control type="file" className="field" aria-label="The file" accept=".yaml,.yml" onChange={async (e) => { const file = (e.target as HTMLInputElement).files?.[0]; if (file) { put.reset(); setSource(await file.text()); } }} />
      {names.length > 0 && <p className="quiet">Secrets are not in it. Those of gateways that are here already may be left empty.</p>}
      {names.map((name) => (
        <div className="field" key={name}>
          <Form.Label htmlFor={name} className="mono">{name}</Form.Label>
          <Form.Control id={name} type="password" autoComplete="new-password" className="mono" value={secrets[name] ?? ""} onChange={(e) => { put.reset(); setSecrets({ ...secrets, [name]: e.target.value }); }} />
        </div>
      ))}
      {put.error && <Refused error={put.error} />}
      {put.data && (
        <div role="status">
          <p>{put.variables ? "Every check was made, and nothing was changed yet." : "It is taken in."}</p>
          {parts.map(([word, list]) => list.length > 0 && <p key={word} className="mb-1"><span className="quiet">{word}:</span> {list.join(", ")}</p>)}
        </div>
      )}
      <Button variant="outline-primary" className="me-2" disabled={!source || put.isPending} onClick={() => put.mutate(true)}>Check it</Button>
      <Button type="submit" disabled={!source || put.isPending}>Take it in</Button>
      <Button variant="link" onClick={close}>Done</Button>
    </Form>
  );
}
