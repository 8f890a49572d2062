import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";

/** Says on every page that nothing is sent, and how that ends. */
export function Quarantine() {
  const { data } = useQuery({
    queryKey: ["quarantine"],
    queryFn: () => got(api.GET("/v1/session")),
    refetchInterval: 5000,
  });
  const { data: recovery } = useQuery({
    queryKey: ["recovery"],
    queryFn: () => got(api.GET("/v1/recovery")),
    enabled: data?.quarantine === true,
    refetchInterval: 30_000,
  });
  if (!data?.quarantine) return null;
  return (
    <div className="notice wrong quarantine" role="alert">
      <p>
        <strong>Quarantine: nothing is sent.</strong>{" "}
        {recovery?.why ? `The database is not as the service left it: ${recovery.why}.` : "The database is not as the service left it."}
      </p>
      <p>Receipts are taken. Texts to be sent are refused until an operator leads the service out: <code>pigeon recover</code></p>
    </div>
  );
}
