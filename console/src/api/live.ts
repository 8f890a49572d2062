import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Reads again whatever shows messages as soon as any has changed. */
export function useLive() {
  const queries = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/v1/messages/follow");
    source.onmessage = () => {
      void queries.invalidateQueries({ queryKey: ["messages"] });
    };
    return () => source.close();
  }, [queries]);
}
