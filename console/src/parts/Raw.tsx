import type { Exchange } from "../api/client";

function pretty(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}

function headers(header: Record<string, string>): string {
  return Object.keys(header).sort().map((name) => `${name}: ${header[name]}`).join("\n");
}

/** A raw exchange: what was sent and what came back, secrets masked. */
export function Raw({ x }: { x: Exchange }) {
  const request = `${x.method} ${x.url}\n${headers(x.request_header)}${x.request_body ? `\n\n${pretty(x.request_body)}` : ""}`;
  const reply = x.status ? `${x.status}\n${headers(x.reply_header)}${x.reply_body ? `\n\n${pretty(x.reply_body)}` : ""}` : "";
  return (
    <div className="exchange">
      <div>
        <h3>{x.purpose === "receipt" ? "What the gateway sent us" : "What we sent, secrets masked"}</h3>
        <pre className="mono">{request}</pre>
      </div>
      {x.purpose !== "receipt" && (
        <div>
          <h3>What came back after {x.took_ms.toFixed(1)} ms</h3>
          <pre className="mono">{[reply, x.error].filter(Boolean).join("\n\n")}</pre>
        </div>
      )}
    </div>
  );
}
