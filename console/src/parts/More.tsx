import type { ReactNode } from "react";
import Button from "react-bootstrap/Button";

/** The way to the rest of a list. */
export function More({ busy, onClick, children }: { busy: boolean; onClick: () => void; children: ReactNode }) {
  return <Button variant="outline-primary" disabled={busy} onClick={onClick}>{children}</Button>;
}
