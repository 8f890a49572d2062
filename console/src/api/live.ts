import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Reads again whatever shows messages as soon as any has changed. */
export function useLive() {
  const queries = useQueryClient();
  useEffect(() => {
    // One reading at a time: changes that come meanwhile lead to one more, and
    // never cut a reading short, however long it takes.
    let reading = false;
    let again = false;
    const read = async () => {
      again = true;
      if (reading) return;
      reading = true;
      while (again) {
        again = false;
        await queries.invalidateQueries({ queryKey: ["messages"] }, { cancelRefetch: false });
      }
      reading = false;
    };
    const source = new EventSource("/v1/messages/follow");
    source.onmessage = () => void read();
    return () => source.close();
  }, [queries]);
}
