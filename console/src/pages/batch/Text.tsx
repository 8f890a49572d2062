import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { api, got, type Batch, type BatchWants } from "../../api/client";
import { useWeighing } from "../../api/weigh";
import { WritingBox } from "../../parts/WritingBox";

interface Props {
  batch: Batch;
  save: (w: BatchWants) => void;
  pending: boolean;
}

/** Labels as they are typed: name=value, with commas between. */
const labelled = (typed: string) => Object.fromEntries(typed.split(",").map((one) => one.split("=").map((part) => part.trim()))
  .filter(([name]) => name).map(([name, value]) => [name, value ?? ""]));

/** What is sent, and how. */
export function Text({ batch, save, pending }: Props) {
  const [w, set] = useState<BatchWants>(batch.wants as BatchWants);
  const templates = useQuery({ queryKey: ["templates"], queryFn: () => got(api.GET("/v1/templates")) });
  const senders = useQuery({ queryKey: ["senders"], queryFn: () => got(api.GET("/v1/senders")) });
  const weighing = useWeighing({ text: w.text ?? "", to: [], kind: "bulk", cure: "off" }).data;
  const change = (c: Partial<BatchWants>) => set({ ...w, ...c });
  const fields = batch.columns.filter((c) => c.role !== "to").map((c) => `{${c.head}}`);
  const [labels, setLabels] = useState(Object.entries(w.labels ?? {}).map(([name, value]) => `${name}=${value}`).join(", "));
  const rehearse = () => save({ ...w, labels: labelled(labels) });
  const times = batch.columns.find((c) => c.role === "at");
  return (
    <section className="step">
      <h2>Text</h2>
      <Form onSubmit={(e) => { e.preventDefault(); rehearse(); }}>
        {(templates.data?.items.length ?? 0) > 0 && (
          <div className="field">
            <Form.Label htmlFor="template">Wording</Form.Label>
            <Form.Select id="template" value={w.template}
              onChange={(e) => change({ template: e.target.value, text: e.target.value ? "" : w.text })}>
              <option value="">A text of my own</option>
              {templates.data?.items.map((t) => <option key={t.name} value={t.name}>{t.name}{t.about && `: ${t.about}`}</option>)}
            </Form.Select>
          </div>
        )}
        {!w.template && (
          <div className="field">
            <WritingBox id="text" value={w.text ?? ""} onChange={(text) => change({ text })} weighing={weighing}
              placeholder="Dear {Name|passenger}, all crossings on Sunday are cancelled." onSend={rehearse} />
            {fields.length > 0 && (
              <p className="quiet mb-0">
                Fields of the list:{" "}
                {fields.map((f) => (
                  <button key={f} type="button" className="plain me-2" onClick={() => change({ text: (w.text ?? "") + f })}>{f}</button>
                ))}
              </p>
            )}
          </div>
        )}
        <div className="row2">
          <div className="field">
            <Form.Label htmlFor="sender">From</Form.Label>
            <Form.Select id="sender" value={w.sender} onChange={(e) => change({ sender: e.target.value })}>
              <option value="">The usual one for the country</option>
              {senders.data?.items.map((s) => <option key={s.sender} value={s.sender}>{s.sender}</option>)}
            </Form.Select>
          </div>
          <div className="field">
            <Form.Label htmlFor="country">Numbers without a country code are dialled in</Form.Label>
            <Form.Control id="country" className="w-auto" maxLength={2} htmlSize={4} value={w.country} placeholder="GB"
              onChange={(e) => change({ country: e.target.value.toUpperCase() })} />
          </div>
        </div>
        <div className="field">
          <Form.Label htmlFor="labels">Labels, to find its messages by</Form.Label>
          <Form.Control id="labels" value={labels} placeholder="shop=eu, season=winter" onChange={(e) => setLabels(e.target.value)} />
        </div>
        <div className="filters">
          <Form.Check id="cure" type="checkbox" label="replace characters nobody notices" checked={w.cure === "safe"}
            onChange={(e) => change({ cure: (e.target.checked ? "safe" : "") as BatchWants["cure"] })} />
          <Form.Check id="hours" type="checkbox" label="send in quiet hours, too" checked={w.at_any_hour}
            onChange={(e) => change({ at_any_hour: e.target.checked })} />
          {times && (
            <Form.Check id="times" type="checkbox" label={`send each at its time in ${times.head}`} checked={w.own_times}
              onChange={(e) => change({ own_times: e.target.checked })} />
          )}
        </div>
        <Button type="submit" disabled={pending}>Rehearse</Button><span className="quiet ms-3">Nothing is sent.</span>
      </Form>
    </section>
  );
}
