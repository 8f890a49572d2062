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
  let why = "The database is not as the service left it";
  if (recovery?.reason === "by_hand") why = "The service was started with --quarantine";
  else if (recovery?.why) why += `: ${recovery.why}`;
  return (
    <div className="notice wrong quarantine" role="alert">
      <p>
        <strong>Quarantine: nothing is sent.</strong> {why}.
      </p>
      <p>Receipts are taken. Texts to be sent are refused until an operator leads the service out: <code>pigeon recover</code></p>
    </div>
  );
}
