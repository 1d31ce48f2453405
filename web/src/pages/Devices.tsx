import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState, type FormEvent } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, must } from "../api";
import { Stamp, Trouble } from "../parts";

const stages = ["listed", "contacted", "joined", "configured", "reporting", "adopted", "retired"];

/** Devices lists devices, with search and filters, a page at a time. */
export function Devices({ site }: { site: string }) {
  const [params, setParams] = useSearchParams();
  const get = (k: string) => params.get(k) ?? "";
  const set = (k: string, v: string) => setParams((p) => { const n = new URLSearchParams(p); if (v) n.set(k, v); else n.delete(k); return n; }, { replace: true });
  const search = useDeferredValue(get("search"));
  const query = { site, search, stage: get("stage"), presence: get("presence"), standing: get("standing"), model: get("model"), limit: 50 };
  const q = useInfiniteQuery({
    queryKey: ["devices", "list", query],
    initialPageParam: "",
    queryFn: ({ pageParam }) => must(api.GET("/api/v1/devices", { params: { query: { ...query, after: pageParam } } })),
    getNextPageParam: (p) => p.next,
    placeholderData: (old) => old,
  });
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const list = q.data?.pages.flatMap((p) => p.devices) ?? [];
  const total = q.data?.pages[0]?.total ?? 0;
  const choice = (name: string, label: string, options: string[]) => (
    <Form.Group controlId={name}>
      <Form.Label>{label}</Form.Label>
      <Form.Select size="sm" value={get(name)} onChange={(e) => set(name, e.target.value)}>
        <option value="">any</option>
        {options.map((o) => <option key={o}>{o}</option>)}
      </Form.Select>
    </Form.Group>
  );
  return (
    <>
      <div className="headline"><h1>Devices</h1><div className="actions">{site ? <><Link className="btn btn-sm btn-outline-primary" to={`/sites/${site}/names`}>Names</Link><Link className="btn btn-sm btn-outline-primary" to={`/sites/${site}/inventory`}>Inventory</Link></> : null}<Button size="sm" onClick={() => set("add", "1")}>Add a device</Button></div></div>
      <div className="filters" role="search" aria-label="Filter devices">
        <Form.Group controlId="search"><Form.Label>Search</Form.Label><Form.Control size="sm" type="search" value={get("search")} onChange={(e) => set("search", e.target.value)} /></Form.Group>
        {choice("stage", "Stage", stages)}
        {choice("presence", "Presence", ["online", "asleep", "offline", "unseen"])}
        {choice("standing", "Firmware", ["current", "behind", "ahead", "unknown"])}
        {choice("model", "Model", models.data?.map((m) => m.name) ?? [])}
        <span className="quiet" role="status">{q.isPending ? "reading …" : `${total} ${total === 1 ? "device" : "devices"}`}</span>
      </div>
      <Trouble problem={q.error} />
      {list.length > 0 ? (
        <table className="ledger folds">
          <thead><tr><th>Name</th><th>Room</th><th>Hostname</th><th>Model</th><th>Stage</th><th>Presence</th><th>Firmware</th></tr></thead>
          <tbody>
            {list.map((d) => (
              <tr key={d.id}>
                <td><Link to={`/devices/${d.id}`}>{d.name}</Link>{d.attention && d.attention !== "behind" ? <> <Stamp word={d.attention} /></> : null}</td>
                <td>{[d.room, site ? "" : d.site].filter(Boolean).join(", ")}</td>
                <td className="mono">{d.hostname}</td>
                <td>{d.model}</td>
                <td><Stamp word={d.stage} /></td>
                <td><Stamp word={d.presence} /></td>
                <td>{d.running ? <><span className="mono">{d.running}</span> <Stamp word={d.standing} /></> : <span className="quiet">{d.intended ? `${d.intended} intended` : ""}</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : q.isSuccess ? <p>No device matches. Take a filter away, or add the device.</p> : null}
      {q.hasNextPage ? <Button className="mt-2" size="sm" variant="outline-primary" disabled={q.isFetching} onClick={() => void q.fetchNextPage()}>More: {list.length} of {total} shown</Button> : null}
      {get("add") ? <AddDevice site={site} hardwareID={get("hardware_id")} sighting={get("sighting")} close={() => setParams({})} /> : null}
    </>
  );
}

/** AddDevice adds a device; it shows what the scheme would call it as one types. */
function AddDevice({ site, hardwareID, sighting, close }: { site: string; hardwareID: string; sighting: string; close: () => void }) {
  const client = useQueryClient();
  const go = useNavigate();
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => must(api.GET("/api/v1/sites")) });
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const [f, setF] = useState({ site, name: "", room: "", model: "", hardware_id: hardwareID, set_up_code: "", tags: "", hostname: "", topic: "" });
  const at = f.site || sites.data?.[0]?.key || "";
  const ask = useDeferredValue({ name: f.name, room: f.room, model: f.model });
  const names = useQuery({
    queryKey: ["devices", "names", at, ask],
    enabled: !!(at && ask.name && ask.model),
    queryFn: () => must(api.POST("/api/v1/sites/{id}/names", { params: { path: { id: at } }, body: ask })),
  });
  const add = useMutation({
    mutationFn: async () => {
      const d = await must(api.POST("/api/v1/sites/{id}/devices", { params: { path: { id: at } }, body: {
      name: f.name, room: f.room, model: f.model, hardware_id: f.hardware_id, set_up_code: f.set_up_code || undefined,
      hostname: f.hostname || undefined, topic: f.topic || undefined, tags: f.tags.split(",").map((t) => t.trim()).filter(Boolean) } }));
      // Only a part of its hardware id was seen; the unit says the rest.
      if (sighting && !f.hardware_id) await must(api.POST("/api/v1/sightings/claim", { body: { sighting, device: d.id } }));
      return d;
    },
    onSuccess: async (d) => { await client.invalidateQueries(); await go(`/devices/${d.id}`); },
  });
  const submit = (e: FormEvent) => { e.preventDefault(); add.mutate(); };
  const field = (key: keyof typeof f, label: string, more: object = {}) => (
    <Form.Group className="mb-2" controlId={`add-${key}`}><Form.Label>{label}</Form.Label><Form.Control size="sm" value={f[key]} onChange={(e) => setF({ ...f, [key]: e.target.value })} {...more} /></Form.Group>
  );
  const rooms = sites.data?.find((s) => s.key === at)?.rooms ?? [];
  return (
    <Modal show animation={false} onHide={close} aria-labelledby="add-title">
      <Form onSubmit={submit}>
        <Modal.Header closeButton><Modal.Title as="h2" id="add-title" className="m-0 border-0">Add a device</Modal.Title></Modal.Header>
        <Modal.Body>
          <Form.Group className="mb-2" controlId="add-site"><Form.Label>Site</Form.Label><Form.Select size="sm" value={at} onChange={(e) => setF({ ...f, site: e.target.value, room: "" })}>{sites.data?.map((s) => <option key={s.id} value={s.key}>{s.name}</option>)}</Form.Select></Form.Group>
          {field("name", "Name", { required: true, autoFocus: true })}
          <Form.Group className="mb-2" controlId="add-room"><Form.Label>Room</Form.Label><Form.Select size="sm" value={f.room} onChange={(e) => setF({ ...f, room: e.target.value })}><option value="">none</option>{rooms.map((r) => <option key={r.id}>{r.name}</option>)}</Form.Select></Form.Group>
          <Form.Group className="mb-2" controlId="add-model"><Form.Label>Model</Form.Label><Form.Select size="sm" required value={f.model} onChange={(e) => setF({ ...f, model: e.target.value })}><option value="">choose</option>{models.data?.map((m) => <option key={m.name} value={m.name}>{m.title}</option>)}</Form.Select></Form.Group>
          {field("hardware_id", "Hardware id, as printed on the unit", { className: "mono" })}
          {field("set_up_code", "Set-up code, as printed on the unit", { type: "password", autoComplete: "off" })}
          {field("tags", "Tags, with commas")}
          {field("hostname", "Hostname", { className: "mono", placeholder: names.data?.hostname ?? "by the site's scheme" })}
          {field("topic", "Topic", { className: "mono", placeholder: names.data?.topic ?? "by the site's scheme" })}
          <Trouble problem={add.error} />
        </Modal.Body>
        <Modal.Footer><Button variant="outline-secondary" onClick={close}>Do not add</Button><Button type="submit" disabled={add.isPending}>Add</Button></Modal.Footer>
      </Form>
    </Modal>
  );
}
