import { useQuery } from "@tanstack/react-query";
import Form from "react-bootstrap/Form";
import Table from "react-bootstrap/Table";
import { api, got, type Batch } from "../../api/client";
import { amount } from "../../parts/amount";

/** What columns are for. */
const roles: Record<string, string> = {
  to: "numbers",
  country: "countries",
  language: "languages",
  name: "names",
  reference: "references",
  at: "times",
  text: "texts",
  "": "a field",
};

/** The list as it was recognised, with its first rows; what a column is for can be put right. */
export function List({ batch, change }: { batch: Batch; change: (columns: Record<string, string>) => void }) {
  const { data } = useQuery({
    queryKey: ["batches", batch.id, "first", batch.rows],
    queryFn: () => got(api.GET("/v1/batches/{id}/rows", { params: { path: { id: batch.id }, query: { limit: 3 } } })),
  });
  return (
    <section className="step">
      <h2>List</h2>
      <p className="mb-2">{batch.file && <b>{batch.file}: </b>}{batch.recognised}; {amount(batch.rows)} rows.</p>
      <div className="table-responsive">
        <Table size="sm" className="w-auto">
          <thead>
            <tr>{batch.columns.map((c) => <th key={c.head}>{c.head}</th>)}</tr>
            <tr>
              {batch.columns.map((c) => (
                <th key={c.head} className="fw-normal">
                  <Form.Select size="sm" aria-label={`What ${c.head} is for`} title={c.why} value={c.role}
                    onChange={(e) => change(e.target.value === "" ? { [c.role]: "" } : { [e.target.value]: c.head })}>
                    {Object.entries(roles).map(([role, word]) => <option key={role} value={role}>{word}</option>)}
                  </Form.Select>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data?.items.map((r) => (
              <tr key={r.row}>
                {batch.columns.map((c) => <td key={c.head} className={c.role === "to" ? "mono" : ""}>{r.cells[c.head]}</td>)}
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
    </section>
  );
}
