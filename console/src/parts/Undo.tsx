import Button from "react-bootstrap/Button";

/** What was just taken away, and the way back. */
export function Undo({ what, undo }: { what: string; undo: () => void }) {
  return (
    <div className="notice" role="status">
      {what} <Button size="sm" variant="link" onClick={undo}>Undo</Button>
    </div>
  );
}
