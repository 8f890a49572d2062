import { useRef, useState, type DragEvent } from "react";
import Button from "react-bootstrap/Button";

/** A place to drop a sheet on, or to choose one; how much of it has gone while it is uploaded. */
export function Drop({ choose, words, label, done, take }: {
  choose: string;
  words: string;
  label: string;
  done?: number;
  take: (file: File) => void;
}) {
  const input = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const first = (files: FileList | null) => { if (files?.[0]) take(files[0]); };
  const drop = (e: DragEvent) => { e.preventDefault(); setOver(false); first(e.dataTransfer.files); };
  return (
    <section className={`drop${over ? " over" : ""}`} onDrop={drop}
      onDragOver={(e) => { e.preventDefault(); setOver(true); }} onDragLeave={() => setOver(false)}>
      <input ref={input} id="list" type="file" className="visually-hidden" aria-label={label}
        onChange={(e) => { first(e.target.files); e.target.value = ""; }} />
      {done !== undefined ? <span role="status">Uploading, {Math.round(done * 100)}%</span> : (
        <>
          <Button onClick={() => input.current?.click()}>{choose}</Button>
          <span className="quiet">{words}</span>
        </>
      )}
    </section>
  );
}
