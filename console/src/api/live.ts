import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Reads again whatever shows messages as soon as any has changed. */
export function useLive() {
  const queries = useQueryClient();
  useEffect(() => {
    // One reading at a time: changes that come meanwhile lead to one more, and
    // never cut a reading short. Where reading takes long, because much is
    // shown, it pauses in proportion: an open page may not keep the database
    // busy.
    let reading = false;
    let again = false;
    const read = async () => {
      again = true;
      if (reading) return;
      reading = true;
      while (again) {
        again = false;
        const started = performance.now();
        await queries.invalidateQueries({ queryKey: ["messages"] }, { cancelRefetch: false });
        const took = performance.now() - started;
        if (took > 100) await new Promise((resolve) => setTimeout(resolve, 4 * took));
      }
      reading = false;
    };
    // One stream for all tabs: a browser opens six connections to a host and no
    // more. The tab that has it tells the others; one that is hidden lets it go.
    const others = new BroadcastChannel("calm-pigeon");
    others.onmessage = () => void read();
    let seen = new AbortController();
    const listen = ({ signal }: AbortController) =>
      new Promise<void>((done) => {
        const source = new EventSource("/v1/messages/follow");
        source.onmessage = () => {
          void read();
          others.postMessage("changed");
        };
        signal.addEventListener("abort", () => {
          source.close();
          done();
        });
      });
    const look = () => {
      seen.abort();
      if (document.hidden) return;
      const now = (seen = new AbortController());
      void read();
      // Without a secure origin there are no locks, and each tab that is seen has its own.
      if (navigator.locks) navigator.locks.request("calm-pigeon-live", { signal: now.signal }, () => listen(now)).catch(() => undefined);
      else void listen(now);
    };
    look();
    document.addEventListener("visibilitychange", look);
    return () => {
      document.removeEventListener("visibilitychange", look);
      seen.abort();
      others.close();
    };
  }, [queries]);
}
