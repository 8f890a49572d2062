import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { api, got } from "../api/client";
import { Mark } from "../parts/Mark";
import { Refused } from "../parts/Refused";

export function SignIn() {
  const [key, setKey] = useState("");
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: (k: string) => got(api.POST("/v1/session", { body: { key: k } })),
    onSuccess: (session) => queries.setQueryData(["session"], session),
  });
  return (
    <main className="door">
      <Mark />
      <h1>Calm Pigeon</h1>
      <p>Sign in with an API key. The first one was shown when the service started for the first time; others come from <span className="mono">pigeon key new</span>.</p>
      {signIn.error && <Refused error={signIn.error} />}
      <Form onSubmit={(e) => { e.preventDefault(); signIn.mutate(key); }}>
        <div className="field">
          <Form.Label htmlFor="key">API key</Form.Label>
          <Form.Control id="key" type="password" className="mono" autoFocus autoComplete="current-password" placeholder="pigeon_…" value={key} onChange={(e) => setKey(e.target.value)} />
        </div>
        <Button type="submit" disabled={!key || signIn.isPending}>Sign in</Button>
      </Form>
    </main>
  );
}
