import Form from "react-bootstrap/Form";
import { Fault } from "./Refused";

/** Secrets to be given, by their names. What is there already is never shown. */
export function Secrets({ names, given, set, error }: { names: string[]; given: Record<string, string>; set: (s: Record<string, string>) => void; error: unknown }) {
  return names.map((name) => (
    <div className="field" key={name}>
      <Form.Label htmlFor={`secret-${name}`}>{name}</Form.Label>
      <Form.Control id={`secret-${name}`} type="password" className="mono" autoComplete="new-password" value={given[name] ?? ""} onChange={(e) => set({ ...given, [name]: e.target.value })} />
      <Fault error={error} field={`secrets.${name}`} />
    </div>
  ));
}
