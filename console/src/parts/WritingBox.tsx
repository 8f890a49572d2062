import { useRef } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import type { Culprit, Weighing } from "../api/client";
import { indices } from "../api/weigh";

const encodings = { gsm7: "GSM 7-bit", ucs2: "UCS-2" };

/** A character that may have no shape, as something to look at. */
export function shown(text: string) {
  if (text === "") return "nothing";
  return /^[\s\p{Cf}]+$/u.test(text) ? `U+${text.codePointAt(0)!.toString(16).toUpperCase().padStart(4, "0")}` : text;
}

/** The stretches of a text with what is to blame in them. */
export function marked(text: string, culprits: Culprit[], exact: boolean) {
  const marks: { from: number; to: number; culprit: Culprit }[] = [];
  for (const culprit of culprits) {
    if (exact) {
      for (const from of indices(text, culprit.at)) marks.push({ from, to: from + culprit.text.length, culprit });
    } else {
      for (let from = text.indexOf(culprit.text); from >= 0; from = text.indexOf(culprit.text, from + culprit.text.length)) marks.push({ from, to: from + culprit.text.length, culprit });
    }
  }
  marks.sort((a, b) => a.from - b.from);
  const pieces: { text: string; from: number; culprit?: Culprit }[] = [];
  let at = 0;
  for (const m of marks) {
    if (m.from < at || text.slice(m.from, m.to) !== m.culprit.text) continue;
    pieces.push({ text: text.slice(at, m.from), from: at }, { text: text.slice(m.from, m.to), from: m.from, culprit: m.culprit });
    at = m.to;
  }
  pieces.push({ text: text.slice(at), from: at });
  return pieces;
}

/** How full each segment is: one strip a segment, the last one filling. */
export function Meter({ weighing }: { weighing: Weighing }) {
  const most = 12;
  const { parts, room } = weighing;
  return (
    <div className="meter" aria-hidden="true">
      {parts.slice(0, most).map((p) => <span key={p.from} className="strip"><span style={{ width: `${(100 * p.units) / room}%` }} /></span>)}
      {parts.length === 0 && <span className="strip"><span style={{ width: 0 }} /></span>}
      {parts.length > most && <span className="quiet">and {parts.length - most} more</span>}
    </div>
  );
}

/** What a text takes, in one sentence. */
export function Sum({ weighing: w }: { weighing: Weighing }) {
  const last = w.parts.at(-1);
  const segments = w.segments === 1 ? "1 segment" : `${w.segments} segments`;
  return (
    <span>
      <b>{segments}</b> of {encodings[w.encoding]}{w.alphabet && w.alphabet !== "default alphabet" && ` with the ${w.alphabet}`}: {w.units} units, {w.room - (last?.units ?? 0)} left
      {w.segments > 1 && ` of ${w.room}`}
    </span>
  );
}

/** A character to blame, where it stands; a click cures it. */
function Mark({ culprit: c, text, cure }: { culprit: Culprit; text: string; cure: () => void }) {
  const why = c.why === "forces_ucs2" ? "forces" : "doubles";
  if (c.level === "off") return <mark className={why}>{text}</mark>;
  return <mark className={`${why} curable`} title={c.cure === "" ? `${c.name}: click to leave it out` : `${c.name}: click to write ${shown(c.cure)}`} onMouseDown={(e) => e.preventDefault()} onClick={cure}>{text}</mark>;
}

interface Props {
  id: string;
  value: string;
  onChange: (text: string) => void;
  weighing?: Weighing;
  /** False where what is weighed is made of the text, and is not the text. */
  exact?: boolean;
  label?: string;
  placeholder?: string;
  invalid?: boolean;
  onSend?: () => void;
}

/**
 * A text as one writes it: what is to blame is underlined where it stands, the
 * segments fill up below, and a click replaces what need not be there.
 */
export function WritingBox({ id, value, onChange, weighing, exact = true, label = "Text", placeholder, invalid, onSend }: Props) {
  const marks = useRef<HTMLDivElement>(null);
  const box = useRef<HTMLTextAreaElement>(null);
  // An answer to an earlier text would mark the wrong places.
  const current = weighing && (!exact || weighing.text === value) ? weighing : undefined;
  const pieces = marked(value, current?.culprits ?? [], exact);
  const curable = (weighing?.culprits ?? []).filter((c) => c.level !== "off");
  const letters = (weighing?.culprits ?? []).filter((c) => c.keep === "letter");
  const kept = (weighing?.culprits ?? []).filter((c) => c.level === "off" && c.keep !== "letter");
  const replace = (c: Culprit) => {
    const next = marked(value, [c], exact).map((p) => (p.culprit ? c.cure : p.text)).join("");
    onChange(next);
    box.current?.focus();
  };
  return (
    <div className="writing">
      <Form.Label htmlFor={id}>{label}</Form.Label>
      <div className="sheet">
        <Form.Control id={id} ref={box} as="textarea" value={value} placeholder={placeholder} aria-invalid={invalid} aria-describedby={`${id}-sum ${id}-fault`} spellCheck
          onChange={(e) => onChange(e.target.value)}
          onScroll={(e) => { if (marks.current) marks.current.scrollTop = e.currentTarget.scrollTop; }}
          onKeyDown={(e) => { if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) onSend?.(); }} />
        {/* For the mouse; the buttons below do the same for everybody. */}
        <div className="marks" ref={marks} aria-hidden="true">
          {pieces.map((p, i) => p.culprit ? <Mark key={i} culprit={p.culprit} text={p.text} cure={() => { onChange(value.slice(0, p.from) + p.culprit!.cure + value.slice(p.from + p.text.length)); box.current?.focus(); }} /> : p.text)}{"\n"}
        </div>
      </div>
      {weighing && (
        <>
          <Meter weighing={weighing} />
          <div id={`${id}-sum`} className="sum" role="status">
            <Sum weighing={weighing} />
            {weighing.problem && value !== "" && <div className="fault">{weighing.problem}</div>}
          </div>
          {(curable.length > 0 || kept.length > 0 || letters.length > 0) && (
            <ul className="blame" aria-label="What makes it cost more">
              {curable.map((c) => (
                <li key={c.text + c.keep}>
                  <mark className={c.why === "forces_ucs2" ? "forces" : "doubles"}>{shown(c.text)}</mark>
                  <span className="quiet">{c.count > 1 && `${c.count} times, `}{c.why === "forces_ucs2" ? "forces UCS-2" : "costs two"}</span>
                  <button type="button" className="plain" title={c.name} onClick={() => replace(c)}>{c.cure === "" ? "leave it out" : <>write <b>{shown(c.cure)}</b></>}</button>
                  {c.level === "strong" && <span className="quiet">(it shows)</span>}
                </li>
              ))}
              {kept.map((c) => (
                <li key={c.text + c.keep} title={c.name}>
                  <mark className={c.why === "forces_ucs2" ? "forces" : "doubles"}>{shown(c.text)}</mark>
                  <span className="quiet">{c.count > 1 && `${c.count} times, `}{c.why === "forces_ucs2" ? "forces UCS-2" : "costs two"}{c.keep === "link" ? ", in a link: kept" : ", and nothing stands for it"}</span>
                </li>
              ))}
              {letters.length > 0 && (
                <li>
                  <mark className="forces">{letters.slice(0, 12).map((c) => c.text).join("")}{letters.length > 12 && "…"}</mark>
                  <span className="quiet">letters of words force UCS-2, and are kept</span>
                </li>
              )}
            </ul>
          )}
          {weighing.cures.map((cure) => (
            <div key={cure.level} className="cure">
              <Button size="sm" variant="outline-primary" disabled={!exact} onClick={() => { onChange(cure.text); box.current?.focus(); }}>
                {cure.level === "safe" ? "Replace what nobody notices" : "Replace also what shows"}
              </Button>
              <span>
                {cure.segments === 1 ? "1 segment" : `${cure.segments} segments`} instead of {weighing.segments}
                {cure.saved && `, saves ${cure.saved.amount} ${cure.saved.currency}`}
              </span>
            </div>
          ))}
          {weighing.tables.map((t) => (
            <p key={t.language} className="quiet mb-0">With the shift tables for {t.language}, where a gateway accepts them: {t.segments === 1 ? "1 segment" : `${t.segments} segments`}.</p>
          ))}
        </>
      )}
    </div>
  );
}
