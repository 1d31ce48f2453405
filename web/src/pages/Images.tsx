import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { useSearchParams } from "react-router";
import { api, Failed, must, type Problem } from "../api";
import { Notes, Stamp, Trouble, When } from "../parts";
import { Archive, Matrix, Releases } from "./Firmware";

/** Images lists firmware images, and adds and withdraws them. */
export function Images({ site }: { site: string }) {
  const [params, setParams] = useSearchParams();
  const [withdrawing, setWithdrawing] = useState("");
  const q = useQuery({ queryKey: ["images", ""], queryFn: () => must(api.GET("/api/v1/images")) });
  const behind = useQuery({ queryKey: ["devices", "behind", site], queryFn: () => must(api.GET("/api/v1/devices", { params: { query: { site, standing: "behind", limit: 200 } } })) });
  const waiting = (version: string, models: string[]) => behind.data?.devices.filter((d) => d.intended === version && models.includes(d.model)).length ?? 0;
  return (
    <>
      <div className="headline"><h1>Firmware</h1><Button size="sm" onClick={() => setParams({ add: "1" })}>Add an image</Button></div>
      <p className="quiet m-0">Images are kept once, by their SHA-256, and never changed. A device's page offers the one that is intended for it.</p>
      <Trouble problem={q.error} />
      <h2>Which version runs where</h2>
      <Matrix site={site} />
      <h2>Images</h2>
      {q.data?.length === 0 ? <p>There is no image yet.</p> : (
        <table className="ledger folds">
          <thead><tr><th>Firmware</th><th>Version</th><th>Channel</th><th>Models</th><th className="num">Size</th><th>Signed</th><th>SHA-256</th><th>Added</th><th className="num">Behind it</th><th>Do</th></tr></thead>
          <tbody>
            {q.data?.map((i) => (
              <tr key={i.sha256}>
                <td>{i.firmware}{i.step ? <span className="sub">Small; only on the way to others.</span> : null}<Notes text={i.notes} /></td>
                <td className="mono text-nowrap">{i.version}</td>
                <td>{i.withdrawn ? <><Stamp word="withdrawn" /><span className="sub">{i.withdrawn}</span></> : <Stamp word={i.channel} />}</td>
                <td>{i.models.join(", ")}</td>
                <td className="num text-nowrap">{Math.ceil(i.size / 1024)} KiB</td>
                <td>{i.signed_by ? <span className="mono text-nowrap">{i.signed_by}</span> : "no"}</td>
                <td className="mono text-nowrap">{i.sha256.slice(0, 12)}…</td>
                <td><When at={i.added_at} /><span className="sub">{i.added_by}</span></td>
                <td className="num">{waiting(i.version, i.models)}</td>
                <td>{i.withdrawn ? null : <Button size="sm" variant="outline-danger" aria-label={`Withdraw ${i.firmware} ${i.version}`} onClick={() => setWithdrawing(i.sha256)}>Withdraw</Button>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <h2>From feeds</h2>
      <Releases />
      <h2>From an archive</h2>
      <Archive />
      {params.get("add") ? <AddImage close={() => setParams({})} /> : null}
      {withdrawing ? <Withdraw sha={withdrawing} close={() => setWithdrawing("")} /> : null}
    </>
  );
}

function AddImage({ close }: { close: () => void }) {
  const client = useQueryClient();
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const [file, setFile] = useState<File>();
  const [f, setF] = useState({ firmware: "", version: "", channel: "stable", model: "", notes: "" });
  const add = useMutation({
    mutationFn: async () => {
      const form = new FormData();
      form.set("facts", JSON.stringify({ firmware: f.firmware || f.model, version: f.version, channel: f.channel, models: [f.model], notes: f.notes }));
      if (file) form.set("file", file);
      const r = await fetch("/api/v1/images", { method: "POST", body: form });
      if (!r.ok) throw new Failed((await r.json()) as Problem);
    },
    onSuccess: async () => { await client.invalidateQueries(); close(); },
  });
  const submit = (e: FormEvent) => { e.preventDefault(); add.mutate(); };
  return (
    <Modal show animation={false} onHide={close} aria-labelledby="image-title">
      <Form onSubmit={submit}>
        <Modal.Header closeButton><Modal.Title as="h2" id="image-title" className="m-0 border-0">Add an image</Modal.Title></Modal.Header>
        <Modal.Body>
          <Form.Group className="mb-2" controlId="image-file"><Form.Label>File</Form.Label><Form.Control size="sm" type="file" required onChange={(e) => setFile((e.target as HTMLInputElement).files?.[0])} /></Form.Group>
          <Form.Group className="mb-2" controlId="image-model"><Form.Label>For the model</Form.Label><Form.Select size="sm" required value={f.model} onChange={(e) => setF({ ...f, model: e.target.value })}><option value="">choose</option>{models.data?.map((m) => <option key={m.name} value={m.name}>{m.title}</option>)}</Form.Select></Form.Group>
          <Form.Group className="mb-2" controlId="image-firmware"><Form.Label>Firmware</Form.Label><Form.Control size="sm" placeholder={f.model} value={f.firmware} onChange={(e) => setF({ ...f, firmware: e.target.value })} /></Form.Group>
          <Form.Group className="mb-2" controlId="image-version"><Form.Label>Version</Form.Label><Form.Control size="sm" className="mono" placeholder="what the file says" value={f.version} onChange={(e) => setF({ ...f, version: e.target.value })} /></Form.Group>
          <Form.Group className="mb-2" controlId="image-channel"><Form.Label>Channel</Form.Label><Form.Select size="sm" value={f.channel} onChange={(e) => setF({ ...f, channel: e.target.value })}><option>stable</option><option>preview</option><option>nightly</option></Form.Select></Form.Group>
          <Form.Group className="mb-2" controlId="image-notes"><Form.Label>Notes</Form.Label><Form.Control size="sm" as="textarea" rows={2} value={f.notes} onChange={(e) => setF({ ...f, notes: e.target.value })} /></Form.Group>
          <p className="quiet m-0">Fado signs its manifest, so that units take it from here and nowhere else.</p>
          <Trouble problem={add.error} />
        </Modal.Body>
        <Modal.Footer><Button variant="outline-secondary" onClick={close}>Do not add</Button><Button type="submit" disabled={add.isPending}>{add.isPending ? "Uploading …" : "Add"}</Button></Modal.Footer>
      </Form>
    </Modal>
  );
}

function Withdraw({ sha, close }: { sha: string; close: () => void }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const run = useMutation({
    mutationFn: () => must(api.POST("/api/v1/images/{id}/withdraw", { params: { path: { id: sha } }, body: { reason } })),
    onSuccess: async () => { await client.invalidateQueries(); close(); },
  });
  const submit = (e: FormEvent) => { e.preventDefault(); run.mutate(); };
  return (
    <Modal show animation={false} onHide={close} aria-labelledby="withdraw-title">
      <Form onSubmit={submit}>
        <Modal.Header closeButton><Modal.Title as="h2" id="withdraw-title" className="m-0 border-0">Withdraw this image</Modal.Title></Modal.Header>
        <Modal.Body>
          <p>It stays for the record and goes onto no unit any more. Units that run it keep it.</p>
          <Form.Group controlId="reason"><Form.Label>Why</Form.Label><Form.Control required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} /></Form.Group>
          <Trouble problem={run.error} />
        </Modal.Body>
        <Modal.Footer><Button variant="outline-secondary" onClick={close}>Keep it in use</Button><Button type="submit" variant="danger" disabled={run.isPending}>Withdraw</Button></Modal.Footer>
      </Form>
    </Modal>
  );
}
