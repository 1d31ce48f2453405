import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { Link, useSearchParams } from "react-router";
import { api, must, type Sighting } from "../api";
import { Stamp, Trouble, When } from "../parts";
import { Doing, Tasks } from "./Attention";
import { Commission } from "./Changes";

/** Bench shows units in set-up mode, and what is done with each. */
export function Bench({ site }: { site: string }) {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const q = useQuery({ queryKey: ["sightings"], queryFn: () => must(api.GET("/api/v1/sightings")), refetchInterval: 10_000 });
  const tasks = useQuery({ queryKey: ["tasks", "open"], queryFn: () => must(api.GET("/api/v1/tasks", { params: { query: { status: "queued,running,waiting" } } })) });
  const act = useMutation({ mutationFn: (run: () => Promise<unknown>) => run(), onSettled: () => client.invalidateQueries() });
  const scan = () => act.mutate(() => must(api.POST("/api/v1/sightings/scan")));
  const asked = params.get("scan");
  useEffect(() => {
    if (!asked) return;
    setParams({}, { replace: true });
    act.mutate(() => must(api.POST("/api/v1/sightings/scan")));
  }, [asked, act, setParams]);
  const start = useMutation({ mutationFn: (prepared: boolean) => must(api.POST("/api/v1/bench/start", { body: { site, prepared } })), onSettled: () => client.invalidateQueries() });
  const [ask, setAsk] = useState(false);
  const list = q.data?.filter((s) => s.source === "radio") ?? [];
  const elsewhere = q.data?.filter((s) => s.source !== "radio") ?? [];
  const find = () => act.mutate(() => must(api.POST("/api/v1/sightings/find")));
  const busy = new Map(tasks.data?.map((t) => [t.device_id, t]));
  const away = tasks.data?.filter((t) => t.kind !== "check" && !list.some((s) => s.device_id === t.device_id)) ?? [];
  const ready = list.filter((unit) => unit.device_id && !unit.twice && unit.stage !== "adopted" && !busy.has(unit.device_id) && (!site || unit.site === site));
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const wanted = models.data?.filter((m) => m.before?.length && ready.some((s) => s.model === m.name)) ?? [];
  const refused = start.data?.filter((x) => x.problem) ?? [];
  return (
    <>
      <div className="headline"><h1>Bench</h1><div className="actions">
        <Button size="sm" variant="outline-primary" disabled={act.isPending} onClick={scan}>Scan now</Button>
        <Button size="sm" disabled={!ready.length || start.isPending} onClick={() => setAsk(true)}>Commission all</Button>
      </div></div>
      <p className="quiet m-0">Units in set-up mode that the radio hears. It listens every ten seconds by itself.</p>
      <Trouble problem={q.error ?? act.error ?? start.error} />
      {refused.length ? <div className="trouble" role="alert"><strong>{refused.length} of {start.data?.length} were not started.</strong>{refused.map((x) => <div key={x.device_id}><Link to={`/devices/${x.device_id}`}>{x.device}</Link>: {x.problem}</div>)}</div> : null}
      <Modal show={ask} onHide={() => setAsk(false)} animation={false} aria-labelledby="all-title">
        <Modal.Header closeButton><Modal.Title id="all-title" as="h2" className="h5 m-0 border-0">Commission {ready.length} units</Modal.Title></Modal.Header>
        <Modal.Body>
          <p>While a Wi-Fi passphrase has not proven itself, one unit tries it and the others wait in set-up mode. What failed before is tried again.</p>
          {wanted.length ? <><p>Some models want this done before:</p><ul>{wanted.map((m) => <li key={m.name}>{m.title}: {m.before?.join(" ")}</li>)}</ul><p className="quiet">That you confirm this is recorded for each.</p></> : null}
          <div className="actions">
            <Button onClick={() => { setAsk(false); start.mutate(wanted.length > 0); }}>{wanted.length ? "This is done, commission them" : "Commission them"}</Button>
            <Button variant="outline-secondary" onClick={() => setAsk(false)}>Not yet</Button>
          </div>
        </Modal.Body>
      </Modal>
      <h2>In set-up mode <span className="aside" role="status">{list.length}, {ready.length} ready</span></h2>
      {list.length === 0 ? <p>No unit is in set-up mode here. A device's page says how to bring its unit there.</p> : (
        <table className="ledger folds">
          <thead><tr><th>Access point</th><th>Hardware id</th><th className="num">Signal</th><th>Device</th><th>Last heard</th><th>Do</th></tr></thead>
          <tbody>
            {list.map((s) => (
              <tr key={s.id}>
                <td className="mono">{s.name}</td>
                <td className="mono">{s.hardware_id ?? <span className="quiet" title="The name carries only a part; identifying it decides">…{s.ending}</span>}</td>
                <td className="num">{s.signal} dBm</td>
                <td>{s.device_id ? <Link to={`/devices/${s.device_id}`}>{s.device}</Link> : <Stamp word="unclaimed" />}</td>
                <td><When at={s.last_seen} /></td>
                <td>{s.twice ? <><Stamp word="held" /> <span className="sub">Two units with this id are on the air. Unplug the one that is not meant.</span></> : s.device_id
                  ? busy.get(s.device_id) ? <Doing task={busy.get(s.device_id)!} />
                    : <>{s.stage === "adopted" ? <Stamp word="adopted" /> : null} <Commission id={s.device_id} name={s.device ?? ""} model={s.model ?? ""} disabled={act.isPending} label={`Commission ${s.device}`} /></>
                  : <Claim sighting={s} run={(f) => act.mutate(f)} />}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <h2>Seen elsewhere <span className="aside"><span role="status">{elsewhere.length}</span> <Button size="sm" variant="outline-primary" className="ms-2" disabled={act.isPending} onClick={find}>Look now</Button></span></h2>
      {elsewhere.length === 0 ? <p className="quiet">No unit that is not in service stands in a home's network or speaks on the broker.</p> : (
        <table className="ledger folds">
          <thead><tr><th>Seen as</th><th>Hardware id</th><th>Where</th><th>Device</th><th>Last seen</th><th>Do</th></tr></thead>
          <tbody>{elsewhere.map((s) => (
            <tr key={s.id}>
              <td className="mono">{s.name}</td>
              <td className="mono">{s.hardware_id ?? <span className="quiet" title="Only a part is known; identifying it decides">…{s.ending}</span>}</td>
              <td>{where[s.source]} {s.address ? <span className="mono">{s.address}</span> : null} {s.site ? <span className="quiet">{s.site}</span> : null}{s.twice ? <> <Stamp word="held" /> <span className="sub">Two units say so.</span></> : null}</td>
              <td>{s.device_id ? <Link to={`/devices/${s.device_id}`}>{s.device}</Link> : <Stamp word="unclaimed" />}</td>
              <td><When at={s.last_seen} /></td>
              <td>{s.device_id ? <span className="quiet">{s.source === "broker" ? "It speaks under a topic that is not its device's." : "Bring it into set-up mode to commission it."}</span> : <Claim sighting={s} run={(f) => act.mutate(f)} />}</td>
            </tr>
          ))}</tbody>
        </table>
      )}
      <h2>Under way elsewhere <span className="aside" role="status">{away.length}</span></h2>
      {away.length ? <Tasks tasks={away} /> : <p className="quiet">No task is under way on a unit that has left set-up mode.</p>}
    </>
  );
}

const where: Record<Sighting["source"], string> = { radio: "on the air", lan: "in the network at", broker: "on the broker", hand: "by a person" };

/** Claim matches an unclaimed unit to a listed device, or adds one for it. */
function Claim({ sighting, run }: { sighting: Sighting; run: (f: () => Promise<unknown>) => void }) {
  const [device, setDevice] = useState("");
  const free = useQuery({ queryKey: ["devices", "free"], queryFn: () => must(api.GET("/api/v1/devices", { params: { query: { stage: "listed", limit: 200 } } })) });
  const choices = free.data?.devices.filter((d) => !d.hardware_id) ?? [];
  return (
    <div className="actions">
      <Link className="btn btn-sm btn-outline-primary" aria-label={`Add a device for ${sighting.name}`} to={`/devices?add=1&hardware_id=${encodeURIComponent(sighting.hardware_id ?? "")}&sighting=${encodeURIComponent(sighting.id)}`}>Add as a device</Link>
      {choices.length ? (
        <>
          <Form.Select size="sm" className="w-auto" aria-label={`Device for ${sighting.name}`} value={device} onChange={(e) => setDevice(e.target.value)}>
            <option value="">or match to …</option>
            {choices.map((d) => <option key={d.id} value={d.id}>{d.name}</option>)}
          </Form.Select>
          {device ? <Button size="sm" onClick={() => run(() => must(api.POST("/api/v1/sightings/claim", { body: { sighting: sighting.id, device } })))}>Match</Button> : null}
        </>
      ) : null}
      <Button size="sm" variant="outline-secondary" aria-label={`Ignore ${sighting.name}`} onClick={() => run(() => must(api.POST("/api/v1/sightings/ignore", { body: { sighting: sighting.id, ignored: true } })))}>Ignore</Button>
    </div>
  );
}
