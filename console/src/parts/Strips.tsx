import type { Culprit, Part } from "../api/client";
import { marked } from "./WritingBox";

/** A text as it was cut: strips of paper, one a segment, the last one not full. */
export function Strips({ parts, room, culprits = [] }: { parts: Part[]; room: number; culprits?: Culprit[] }) {
  return (
    <ol className="strips">
      {parts.map((p, i) => (
        <li key={p.from}>
          <span className="words">{marked(p.text, culprits, false).map((piece, j) => piece.culprit ? <mark key={j} className={piece.culprit.why === "forces_ucs2" ? "forces" : "doubles"}>{piece.text}</mark> : piece.text)}</span>
          <span className="full" title={`${p.units} of ${room} units`}><span style={{ width: `${(100 * p.units) / room}%` }} /></span>
          {parts.length > 1 && <span className="nr quiet">{i + 1}</span>}
        </li>
      ))}
    </ol>
  );
}
