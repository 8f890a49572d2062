import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";

/** Gateways or templates that cannot be used as they stand, and why. Most often there are none. */
export function Flaws({ what }: { what: "gateway" | "template" }) {
  const { data } = useQuery({ queryKey: ["flaws"], queryFn: () => got(api.GET("/v1/flaws")), refetchInterval: 15000 });
  const mine = data?.items.filter((f) => f.what === what) ?? [];
  if (mine.length === 0) return null;
  return (
    <div className="notice wrong mt-2" role="alert" style={{ whiteSpace: "pre-line" }}>
      {mine.map((f) => <div key={f.name}>The {f.what} <b>{f.name}</b> cannot be used as it stands: {f.why}</div>)}
    </div>
  );
}
