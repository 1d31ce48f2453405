import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useParams } from "react-router";
import { api, must, type Device, type Setting } from "../api";
import { Stamp, TaskSheet, Trouble, When, say } from "../parts";
import { Changes, Commission, Intend, Login, WouldSend } from "./Changes";
import { FirmwareOf } from "./Firmware";
import { Health } from "./Health";
import { Replace, Retire } from "./Replace";
import { Checks } from "./SignOff";

/** DevicePage is a device's commissioning sheet. */
export function DevicePage() {
  const { id = "" } = useParams();
  const client = useQueryClient();
  const path = { params: { path: { id } } };
  const q = useQuery({ queryKey: ["device", id], queryFn: () => must(api.GET("/api/v1/devices/{id}", path)) });
  const settings = useQuery({ queryKey: ["device", id, "settings"], queryFn: () => must(api.GET("/api/v1/devices/{id}/settings", path)) });
  const messages = useQuery({ queryKey: ["device", id, "messages"], queryFn: () => must(api.GET("/api/v1/devices/{id}/messages", path)) });
  const events = useQuery({ queryKey: ["events", id], queryFn: () => must(api.GET("/api/v1/events", { params: { query: { device: id, limit: 30 } } })) });
  const images = useQuery({
    queryKey: ["images", q.data?.model], enabled: !!q.data,
    queryFn: () => must(api.GET("/api/v1/images", { params: { query: { model: q.data?.model } } })),
  });
  const act = useMutation({ mutationFn: (run: () => Promise<unknown>) => run(), onSettled: () => client.invalidateQueries() });
  if (q.error) return <><h1>Device</h1><Trouble problem={q.error}><Link to="/devices">To the list</Link></Trouble></>;
  if (!q.data) return <p className="quiet">Reading …</p>;
  const d = q.data;
  const open = d.task && !["done", "failed", "cancelled"].includes(d.task.status);
  const held = open && d.task?.kind !== "check"; // checks give way
  const image = images.data?.find((i) => !i.withdrawn && i.version === d.intended);
  const inService = ["joined", "configured", "reporting", "adopted"].includes(d.stage);
  const blink = () => act.mutate(() => must(api.POST("/api/v1/devices/{id}/blink", path)));
  const update = (sha: string) => act.mutate(() => must(api.POST("/api/v1/devices/{id}/update", { ...path, body: { image: sha } })));
  return (
    <>
      <div className="headline">
        <div>
          <h1>{d.name}</h1>
          <span className="quiet">{[d.room, d.site, d.model_detail?.title ?? d.model].filter(Boolean).join(" · ")}</span>
        </div>
        <div className="actions">
          {!inService && d.stage !== "retired" ? <Commission id={d.id} name={d.name} model={d.model} disabled={!!held || act.isPending} /> : null}
          {inService && settings.data?.some((s) => s.key === "access.password" || s.key === "access.point_key") ? <Login device={d} /> : null}
          {inService && d.standing === "behind" && image ? <Button size="sm" disabled={!!held || act.isPending} onClick={() => update(image.sha256)}>Update to {image.version}</Button> : null}
          {d.presence === "online" ? <Button size="sm" variant="outline-primary" disabled={act.isPending} onClick={blink}>Let it blink</Button> : null}
          {d.units?.length ? <><Replace device={d} can={!held && d.stage !== "retired"} /><Retire device={d} can={!held && d.stage !== "retired"} /></> : null}
        </div>
      </div>
      <div className="counts mt-1">
        <Stamp big word={d.stage} /> <Stamp big word={d.presence} /> {d.running || d.intended ? <Stamp big word={d.standing} /> : null}
        {d.attention ? <span>Needs you: <Stamp word={d.attention} /></span> : null}
      </div>
      <Trouble problem={act.error} />
      {d.task && (open || d.task.status === "failed") ? (
        <>
          <h2>{d.task.kind === "update" ? `Update to ${d.task.update?.version}` : d.task.kind === "apply" ? "Applying settings" : d.task.kind === "check" ? "Checking" : "Commissioning"} <span className="aside">attempt {d.task.attempt}, started by {d.task.actor}</span></h2>
          <TaskSheet task={d.task} busy={act.isPending}
            onRetry={() => act.mutate(() => must(api.POST("/api/v1/tasks/{id}/retry", { params: { path: { id: d.task!.id } } })))}
            onCancel={() => act.mutate(() => must(api.POST("/api/v1/tasks/{id}/cancel", { params: { path: { id: d.task!.id } } })))}>
            {d.task.failure?.code === "came_back_wifi_refused" ? <Correct site={d.site} task={d.task.id} run={(f) => act.mutate(f)} busy={act.isPending} /> : null}
          </TaskSheet>
        </>
      ) : null}
      {inService ? <Changes device={d} busy={!!held} /> : null}
      {!inService && !open && d.stage !== "retired" ? <WouldSend device={d} /> : null}
      {!inService && !open && d.stage !== "retired" ? <p className="wait">{d.model_detail?.before?.length ? <><strong>Before:</strong> {d.model_detail.before.join(" ")} </> : null}To bring it into set-up mode: {d.model_detail?.set_up}{d.model_detail?.cautions?.map((c) => <strong key={c}> {c}</strong>)}</p> : null}
      <div className="columns">
        <div>
          <h2>Identity</h2>
          <dl className="facts">
            <Line name="Hostname"><span className="mono">{d.hostname}</span></Line>
            <Line name="Topic"><span className="mono">{d.topic}</span>{d.live_topic ? <span className="quiet"> — its unit still uses <span className="mono">{d.live_topic}</span></span> : null}</Line>
            <Line name="Label">{d.label} <a className="ms-2" style={{ textDecoration: "underline" }} href={`/api/v1/devices/${d.id}/label.svg`} target="_blank" rel="noreferrer">to print</a></Line>
            {d.address ? <Line name="Address"><span className="mono">{d.address}</span></Line> : null}
            {d.boot_seconds ? <Line name="Usually starts in">{d.boot_seconds.toFixed(1)} s</Line> : null}
            <Line name="Hardware id"><span className="mono">{d.hardware_id || (d.ending ? `…${d.ending}; the rest it says itself` : "not known")}</span></Line>
            <Line name="Set-up code">{d.has_set_up_code ? "••• on record" : "not on record"}</Line>
            {d.tags.length ? <Line name="Tags">{d.tags.join(", ")}</Line> : null}
            {d.units?.map((u) => <Line key={u.since} name={u.until ? "Unit before" : "Unit since"}><span className="mono">{u.hardware_id}</span> <When at={u.since} /></Line>)}
          </dl>
        </div>
        <div>
          <h2>Firmware</h2>
          <dl className="facts">
            <Line name="Runs"><span className="mono">{d.running ? [d.firmware, d.running].filter(Boolean).join(" ") : "not reported yet"}</span></Line>
            <Line name="Intended"><span className="mono">{d.intended ?? "nothing"}</span></Line>
            {d.digest ? <Line name="Digest"><span className="mono">{d.digest.slice(0, 24)}…</span></Line> : null}
          </dl>
          {inService ? <FirmwareOf device={d} held={!!held || act.isPending} update={update} /> : null}
          <h2>State</h2>
          <State device={d} />
        </div>
      </div>
      <h2><span>Checks {d.checks?.length ? <Stamp word={d.sign_off ?? "unchecked"} /> : null}</span> {inService ? <span className="actions d-inline-flex ms-2">
        <Button size="sm" variant="outline-primary" disabled={!!open || act.isPending} onClick={() => act.mutate(() => must(api.POST("/api/v1/checks", { body: { devices: [d.id] } })))}>Check now</Button>
        <Link className="btn btn-sm btn-outline-secondary" to={`/devices/${d.id}/beside`}>I am beside it</Link>
      </span> : null}</h2>
      {d.checks?.length ? <Checks list={d.checks} /> : <p className="quiet">No check was made yet. They come with commissioning.</p>}
      <h2>Intended against reported</h2>
      <Trouble problem={settings.error} />
      <Settings list={settings.data ?? []} />
      <Intend device={d} />
      {d.model_detail?.ports?.length ? (
        <>
          <h2>Ports</h2>
          <div className="scroll" tabIndex={0} role="region" aria-label="Ports"><img className="drawing" src={`/api/v1/devices/${d.id}/ports.svg?${settings.dataUpdatedAt}`} alt={`Ports of ${d.model_detail.title}: ${d.model_detail.ports.map((p) => `${p.label} is pin ${p.pin}`).join(", ")}`} />
            {settings.data?.some((s) => s.key === "load.count" || s.key === "load.width") ? <img className="drawing" src={`/api/v1/devices/${d.id}/strip.svg?${settings.dataUpdatedAt}`} alt="The order of the strip's lamps" /> : null}</div>
        </>
      ) : null}
      {inService ? <Health device={d.id} /> : null}
      <div className="columns">
        <div>
          <h2>Last messages <Link className="aside" to={`/messages?device=${d.id}`}>as they come</Link></h2>
          {messages.data?.length ? (
            <div className="scroll" tabIndex={0} role="region" aria-label="Last messages"><table className="ledger">
              <thead><tr><th>Topic</th><th>Payload</th><th>When</th></tr></thead>
              <tbody>{messages.data.map((m) => <tr key={m.topic}><td className="mono text-nowrap">{m.topic}</td><td className="mono">{m.payload.length > 160 ? `${m.payload.slice(0, 160)}…` : m.payload}</td><td><When at={m.at} />{m.retained ? <span className="sub">kept, not live</span> : null}</td></tr>)}</tbody>
            </table></div>
          ) : <p className="quiet">It has said nothing yet.</p>}
        </div>
        <div>
          <h2>Timeline</h2>
          <table className="ledger">
            <thead><tr><th>When</th><th>Who</th><th>What</th></tr></thead>
            <tbody>{events.data?.events.map((e) => <tr key={e.id}><td className="text-nowrap"><When at={e.at} /></td><td>{e.actor}</td><td>{e.text}</td></tr>)}</tbody>
          </table>
        </div>
      </div>
    </>
  );
}

/** Correct takes the right passphrase where the wrong one was found, and goes on. */
function Correct({ site, task, run, busy }: { site: string; task: string; run: (f: () => Promise<unknown>) => void; busy: boolean }) {
  const [passphrase, setPassphrase] = useState("");
  const at = useQuery({ queryKey: ["sites", site], queryFn: () => must(api.GET("/api/v1/sites/{id}", { params: { path: { id: site } } })) });
  const network = at.data?.network_id;
  const ssid = at.data?.network;
  if (!network) return null;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    run(async () => {
      await must(api.PATCH("/api/v1/networks/{id}", { params: { path: { id: network } }, body: { passphrase } }));
      await must(api.POST("/api/v1/tasks/{id}/retry", { params: { path: { id: task } } }));
    });
  };
  return (
    <Form className="actions" onSubmit={submit}>
      <Form.Control size="sm" className="w-auto" type="password" autoComplete="off" required minLength={8} aria-label={`Passphrase of ${ssid}`} placeholder={`passphrase of ${ssid}`} value={passphrase} onChange={(e) => setPassphrase(e.target.value)} />
      <Button type="submit" size="sm" disabled={busy}>Correct it and try again</Button>
    </Form>
  );
}

function Line({ name, children }: { name: string; children: React.ReactNode }) {
  return <div><dt>{name}</dt><dd>{children}</dd></div>;
}

function State({ device }: { device: Device }) {
  const caps = device.model_detail?.capabilities ?? [];
  return (
    <dl className="facts">
      {caps.map((c) => {
        const s = device.state?.[c.name];
        return <Line key={c.name} name={c.title}>{s ? <><span className="mono">{say(s.value)} {c.unit === "Cel" ? "°C" : c.unit}</span> <span className="quiet"><When at={s.at} />{s.live ? "" : ", kept, not live"}</span></> : <span className="quiet">not said yet</span>}</Line>;
      })}
    </dl>
  );
}

function Settings({ list }: { list: Setting[] }) {
  return (
    <table className="ledger folds">
      <thead><tr><th>Setting</th><th>Intended</th><th>From</th><th>Reported</th><th>State</th><th>Proof</th></tr></thead>
      <tbody>
        {list.map((s) => (
          <tr key={s.key}>
            <td>{s.title}</td>
            <td className="mono">{say(s.intended)}</td>
            <td>{s.origin}</td>
            <td className="mono">{say(s.reported)}</td>
            <td><Stamp word={s.state} /></td>
            <td>{s.proof ? <>{s.proof}, <When at={s.proof_at} /></> : <When at={s.reported_at} />}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
