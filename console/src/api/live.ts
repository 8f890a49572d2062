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
    const source = new EventSource("/v1/messages/follow");
    source.onmessage = () => void read();
    return () => source.close();
  }, [queries]);
}
