import type { Middleware } from "openapi-fetch";

// Which version of what is set was read last, by what it is (gateways, senders, …).
let latest: Record<string, string> = {};
// And which it was when somebody began to write on this page: what they write is
// about that, also when the page reads again meanwhile.
let begun: { page: string; versions: Record<string, string> } | undefined;

// How many changes we have made; what was asked for before the last of them is old.
let changes = 0;
const asked = new WeakMap<Request, number>();

const kindOf = (url: string) => new URL(url).pathname.split("/")[2] ?? "";

addEventListener("focusin", (e) => {
  if (!(e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement || e.target instanceof HTMLSelectElement)) return;
  if (begun?.page !== location.pathname) begun = { page: location.pathname, versions: latest };
});

/** Has a change refused where somebody else has changed the same since it was read. */
export const versions: Middleware = {
  onRequest({ request }) {
    if (request.method === "GET") {
      asked.set(request, changes);
      return;
    }
    const read = begun?.page === location.pathname ? begun.versions : latest;
    const version = read[kindOf(request.url)];
    if (version) request.headers.set("If-Match", version);
    return request;
  },
  onResponse({ request, response }) {
    const version = response.headers.get("ETag");
    const kind = kindOf(request.url);
    if (request.method !== "GET") {
      begun = undefined; // done, or told to look again
      if (response.ok) {
        changes++;
        latest = { ...latest, [kind]: "" }; // it is ours now
      }
    } else if (response.ok && version && asked.get(request) === changes) {
      latest = { ...latest, [kind]: version };
    }
  },
};
