import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ChangeEvent } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useParams } from "react-router";
import { api, must } from "../api";
import { Stamp, Trouble } from "../parts";

const separators: Record<string, string> = { ",": "commas", ";": "semicolons", "\t": "tabulators" };

/** InventoryPage takes a spreadsheet's file in: rehearsed as soon as it is chosen, taken in whole or not at all. */
export function InventoryPage() {
  const { site = "" } = useParams();
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["sites", site], queryFn: () => must(api.GET("/api/v1/sites/{id}", { params: { path: { id: site } } })) });
  const [file, setFile] = useState<File | null>(null);
  const send = (dry: boolean) => async (f: File) => {
    const bytes = await f.arrayBuffer();
    // The file goes as it is; its encoding is found out by the service.
    return must(api.POST("/api/v1/sites/{id}/inventory", { params: { path: { id: site }, query: { dry_run: dry } }, headers: { "Content-Type": "text/csv" }, body: "", bodySerializer: () => bytes }));
  };
  const rehearse = useMutation({ mutationFn: send(true) });
  const take = useMutation({ mutationFn: send(false), onSuccess: () => client.invalidateQueries() });
  const choose = (e: ChangeEvent<HTMLInputElement>) => {
    const f = e.target.files?.[0] ?? null;
    setFile(f);
    take.reset();
    if (f) rehearse.mutate(f);
    else rehearse.reset();
  };
  const told = take.data ?? rehearse.data;
  const rows = told?.rows.filter((r) => r.outcome !== "same") ?? [];
  const changes = (told?.added ?? 0) + (told?.changed ?? 0);
  return (
    <>
      <div className="headline"><h1>Inventory{q.data ? ` of ${q.data.name}` : ""}</h1><div className="actions"><a className="btn btn-sm btn-outline-primary" href={`/api/v1/sites/${site}/inventory`} download={`${site}.csv`}>Save as CSV</a></div></div>
      <p className="quiet">
        Save the inventory, change it in a spreadsheet, and choose it here; or begin with a table of your own whose first row names its columns: name, room, model, hardware_id, hostname, topic, label, tags, set_up_code, and any setting by its key.
        An empty cell changes nothing. Nothing is taken in before you have seen what would come of it.
      </p>
      <Form.Group controlId="inventory-file" className="mb-3"><Form.Label>CSV file</Form.Label><Form.Control size="sm" type="file" accept=".csv,.txt,text/csv" onChange={choose} /></Form.Group>
      {rehearse.isPending ? <p className="wait" role="status">Reading {file?.name} …</p> : null}
      <Trouble problem={rehearse.error ?? take.error} />
      {told ? (
        <>
          <h2>{take.data ? "Taken in" : "What would come of it"} <span className="aside" role="status">{told.added} added, {told.changed} changed, {told.same} as they are{told.refused ? `, ${told.refused} refused` : ""}; {told.encoding}, {separators[told.separator]}</span></h2>
          {rows.length ? (
            <table className="ledger folds">
              <thead><tr><th>Line</th><th>Outcome</th><th>Name</th><th>Hostname</th><th>What</th></tr></thead>
              <tbody>{rows.slice(0, 500).map((r) => (
                <tr key={r.line}>
                  <td className="number">{r.line}</td>
                  <td><Stamp word={r.outcome} /></td>
                  <td>{r.name}</td>
                  <td className="mono">{take.data && r.device ? <Link to={`/devices/${r.device}`}>{r.device}</Link> : r.device}</td>
                  <td>{r.changes.map((c) => <div key={c}>{c}</div>)}{r.faults.map((f) => (
                    <div key={f.field + f.rule}><span className="mono">{f.field}</span>{f.field ? ": " : ""}{f.rule}{f.passes ? <> — <span className="mono">{f.passes}</span> would pass</> : null}</div>
                  ))}</td>
                </tr>
              ))}</tbody>
            </table>
          ) : <p>Every row is as it is already.</p>}
          {rows.length > 500 ? <p className="quiet">The first 500 of {rows.length} rows are shown.</p> : null}
          {take.data ? <p className="wait" role="status">Taken in. <Link to="/devices">See the devices</Link>, or go to the <Link to="/bench">bench</Link>.</p> : (
            <div className="actions mt-2">
              <Button size="sm" disabled={!file || told.refused > 0 || changes === 0 || take.isPending} onClick={() => file && take.mutate(file)}>Take in {changes} {changes === 1 ? "row" : "rows"}</Button>
              {told.refused > 0 ? <span className="quiet">Correct the refused rows in the spreadsheet, then choose the file again.</span> : null}
            </div>
          )}
        </>
      ) : null}
    </>
  );
}
