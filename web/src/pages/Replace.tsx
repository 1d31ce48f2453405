import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { api, must, type Device } from "../api";
import { Trouble } from "../parts";

/** Replace has another unit fill a device. */
export function Replace({ device, can }: { device: Device; can: boolean }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [f, setF] = useState({ hardware_id: "", set_up_code: "", reason: "" });
  const sightings = useQuery({ queryKey: ["sightings"], enabled: open, queryFn: () => must(api.GET("/api/v1/sightings")) });
  const fresh = sightings.data?.filter((s) => !s.device_id && s.hardware_id && s.dialect === device.model_detail?.dialect) ?? [];
  const go = useMutation({
    mutationFn: () => must(api.POST("/api/v1/devices/{id}/replace", { params: { path: { id: device.id } }, body: { hardware_id: f.hardware_id, set_up_code: f.set_up_code || undefined, reason: f.reason || undefined } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const submit = (e: FormEvent) => { e.preventDefault(); go.mutate(); };
  return (
    <>
      {can ? <Button size="sm" variant="outline-secondary" onClick={() => { go.reset(); setOpen(true); }}>Replace its unit</Button> : null}
      <Modal show={open} onHide={() => setOpen(false)} animation={false} aria-labelledby="replace-title">
        <Modal.Header closeButton><Modal.Title id="replace-title" as="h2" className="h5 m-0 border-0">Replace the unit of {device.name}</Modal.Title></Modal.Header>
        <Modal.Body>
          {go.data ? (
            <>
              <p>{device.name} is to be filled by <span className="mono">{go.data.device.hardware_id}</span>. {go.data.unit}</p>
              <p>Bring the new unit into set-up mode and commission it: {device.model_detail?.set_up}</p>
              <Button onClick={() => setOpen(false)}>Done</Button>
            </>
          ) : (
            <Form onSubmit={submit}>
              <p>The device keeps its name, topic, settings, history and place in the hub. The account and the login of <span className="mono">{device.hardware_id}</span> end now; if it still answers, it is told to forget what it knows.</p>
              <Trouble problem={go.error} />
              {fresh.length ? (
                <Form.Group className="mb-2" controlId="replace-seen"><Form.Label>A unit that was seen</Form.Label>
                  <Form.Select value={f.hardware_id} onChange={(e) => setF({ ...f, hardware_id: e.target.value })}>
                    <option value="">another one</option>
                    {fresh.map((s) => <option key={s.id} value={s.hardware_id}>{s.name} ({s.hardware_id})</option>)}
                  </Form.Select></Form.Group>
              ) : null}
              <Form.Group className="mb-2" controlId="replace-id"><Form.Label>Hardware id of the new unit</Form.Label>
                <Form.Control className="mono" required value={f.hardware_id} onChange={(e) => setF({ ...f, hardware_id: e.target.value })} /></Form.Group>
              <Form.Group className="mb-2" controlId="replace-code"><Form.Label>Set-up code printed on it</Form.Label>
                <Form.Control type="password" autoComplete="off" value={f.set_up_code} onChange={(e) => setF({ ...f, set_up_code: e.target.value })} /></Form.Group>
              <Form.Group className="mb-3" controlId="replace-why"><Form.Label>Why, for the record</Form.Label>
                <Form.Control value={f.reason} onChange={(e) => setF({ ...f, reason: e.target.value })} /></Form.Group>
              <div className="actions"><Button type="submit" disabled={go.isPending || !f.hardware_id}>Replace it</Button><Button variant="outline-secondary" onClick={() => setOpen(false)}>Not now</Button></div>
            </Form>
          )}
        </Modal.Body>
      </Modal>
    </>
  );
}

/** Retire takes a device out of service. */
export function Retire({ device, can }: { device: Device; can: boolean }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const [keep, setKeep] = useState(false);
  const go = useMutation({
    mutationFn: () => must(api.POST("/api/v1/devices/{id}/retire", { params: { path: { id: device.id } }, body: { reason: reason || undefined, keep_unit: keep } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      {can ? <Button size="sm" variant="outline-secondary" onClick={() => { go.reset(); setOpen(true); }}>Retire</Button> : null}
      <Modal show={open} onHide={() => setOpen(false)} animation={false} aria-labelledby="retire-title">
        <Modal.Header closeButton><Modal.Title id="retire-title" as="h2" className="h5 m-0 border-0">Retire {device.name}</Modal.Title></Modal.Header>
        <Modal.Body>
          {go.data ? <><p>{device.name} is retired. {go.data.unit}</p><Button onClick={() => setOpen(false)}>Done</Button></> : (
            <>
              <p>It leaves the hub, its account on the broker ends, and what it left there is cleared. Its names are free again; its history stays. This cannot be undone.</p>
              <Trouble problem={go.error} />
              <Form.Group className="mb-2" controlId="retire-why"><Form.Label>Why, for the record</Form.Label>
                <Form.Control value={reason} onChange={(e) => setReason(e.target.value)} /></Form.Group>
              <Form.Check className="mb-3" id="retire-keep" label="Leave the unit as it is: do not tell it to forget the network" checked={keep} onChange={(e) => setKeep(e.target.checked)} />
              <div className="actions"><Button variant="danger" disabled={go.isPending} onClick={() => go.mutate()}>Retire it</Button><Button variant="outline-secondary" onClick={() => setOpen(false)}>Not now</Button></div>
            </>
          )}
        </Modal.Body>
      </Modal>
    </>
  );
}
