import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { api, must, type Device, type Preview } from "../api";
import { Stamp, Trouble, When, say } from "../parts";

/** Exchanges shows what would be sent, in order, with each restart. */
export function Exchanges({ preview: p }: { preview: Preview }) {
  return (
    <>
      <ol className="exchanges">
        {p.exchanges.map((x, i) => (
          <li key={i}>
            <div><strong>{x.title}</strong> <span className="mono">{x.request}</span> {x.restarts ? <span className="restart">restarts the unit</span> : null}</div>
            {x.body ? <pre className="mono">{pretty(x.body)}</pre> : null}
          </li>
        ))}
      </ol>
      {p.update ? <p className="quiet mt-2">An update, not sent from here: {p.update.title} <span className="mono">{p.update.request}</span></p> : null}
    </>
  );
}

function pretty(body: string) {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}

function restarts(p: Preview) {
  if (p.exchanges.length === 0) return "Nothing is to be sent.";
  return `${p.restarts === 1 ? "One restart" : `${p.restarts} restarts`} in all.${p.at_wake ? " It sleeps: this is sent at its next wake." : ""}${p.assumed ? " Its version is not known yet; this is what the newest takes." : ""}`;
}

/** Changes shows what differs on a unit in service, and applies it. */
export function Changes({ device: d, busy }: { device: Device; busy: boolean }) {
  const client = useQueryClient();
  const path = { params: { path: { id: d.id } } };
  const q = useQuery({ queryKey: ["device", d.id, "preview"], queryFn: () => must(api.GET("/api/v1/devices/{id}/preview", path)), enabled: d.drift > 0 });
  const act = useMutation({ mutationFn: (run: () => Promise<unknown>) => run(), onSettled: () => client.invalidateQueries() });
  if (d.drift === 0) return null;
  const apply = () => act.mutate(() => must(api.POST("/api/v1/devices/{id}/apply", { ...path, body: {} })));
  const accept = (key: string) => act.mutate(() => must(api.POST("/api/v1/drift/accept", { body: { device: d.id, settings: [key] } })));
  const p = q.data;
  return (
    <section aria-label="Changes to apply">
      <h2>Changes to apply <span className="aside">{d.drift} {d.drift === 1 ? "setting" : "settings"} not on the unit as intended</span></h2>
      <Trouble problem={q.error ?? act.error} />
      {p ? (
        <>
          <table className="ledger folds">
            <thead><tr><th>Setting</th><th>On the unit</th><th>Intended</th><th>From</th><th>State</th><th>Do</th></tr></thead>
            <tbody>{p.differences.map((s) => (
              <tr key={s.key}>
                <td>{s.title}</td>
                <td className="mono">{s.reported === undefined ? "—" : say(s.reported)}{s.since ? <span className="sub">since <When at={s.since} /></span> : null}</td>
                <td className="mono">{say(s.intended)}</td>
                <td>{s.origin}</td>
                <td><Stamp word={s.state} /></td>
                <td>{s.reported !== undefined ? <Button size="sm" variant="outline-secondary" disabled={busy || act.isPending} aria-label={`Accept ${s.title} as the unit has it`} onClick={() => accept(s.key)}>Accept</Button> : null}</td>
              </tr>
            ))}</tbody>
          </table>
          {p.listeners.length ? <p className="wait">Others listen on the topic that would be given up: <span className="mono">{p.listeners.join(", ")}</span>.</p> : null}
          <div className="actions mt-2 align-items-center">
            <Button size="sm" disabled={busy || act.isPending} onClick={apply}>Apply {d.drift === 1 ? "this change" : `these ${d.drift} changes`}</Button>
            <span className="quiet">{restarts(p)}</span>
          </div>
          <details><summary>What would be sent</summary><Exchanges preview={p} /></details>
        </>
      ) : null}
    </section>
  );
}

/** WouldSend shows what commissioning would send, on demand. */
export function WouldSend({ device: d }: { device: Device }) {
  const [open, setOpen] = useState(false);
  const q = useQuery({ queryKey: ["device", d.id, "preview"], enabled: open, queryFn: () => must(api.GET("/api/v1/devices/{id}/preview", { params: { path: { id: d.id } } })) });
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary>What commissioning would send</summary>
      <Trouble problem={q.error} />
      {q.data ? <><p className="quiet m-0">{restarts(q.data)} {q.data.unsupported.length ? `This firmware cannot be told: ${q.data.unsupported.join(", ")}.` : ""}</p><Exchanges preview={q.data} /></> : null}
    </details>
  );
}

/** Intend changes one intended setting; nothing is sent before it is applied. */
export function Intend({ device: d }: { device: Device }) {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["settable", d.id], queryFn: () => must(api.GET("/api/v1/devices/{id}/settable", { params: { path: { id: d.id } } })), retry: false });
  const [key, setKey] = useState("");
  const [value, setValue] = useState("");
  const act = useMutation({ mutationFn: (body: Record<string, unknown>) => must(api.PATCH("/api/v1/devices/{id}/settings", { params: { path: { id: d.id } }, body })), onSuccess: () => { setValue(""); return client.invalidateQueries(); } });
  const spec = q.data?.find((s) => s.key === key);
  if (!q.data?.length) return null;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (!spec) return;
    const typed = spec.kind === "number" ? Number(value) : spec.kind === "flag" ? value === "true" : value;
    act.mutate({ [key]: typed });
  };
  return (
    <>
      <Form className="actions mt-2 align-items-center" onSubmit={submit} aria-label="Change what is intended">
        <Form.Select size="sm" className="w-auto" aria-label="Setting to change" value={key} onChange={(e) => { setKey(e.target.value); setValue(""); }}>
          <option value="">Change a setting …</option>
          {q.data.map((s) => <option key={s.key} value={s.key}>{s.title}</option>)}
        </Form.Select>
        {spec ? (
          <>
            {spec.choices.length ? (
              <Form.Select size="sm" className="w-auto" required aria-label={`New value of ${spec.title}`} value={value} onChange={(e) => setValue(e.target.value)}>
                <option value="">choose …</option>
                {spec.choices.map((c) => <option key={c}>{c}</option>)}
              </Form.Select>
            ) : (
              <Form.Control size="sm" className="w-auto" required aria-label={`New value of ${spec.title}`} type={spec.kind === "secret" ? "password" : spec.kind === "number" ? "number" : "text"} autoComplete="off" value={value} onChange={(e) => setValue(e.target.value)} />
            )}
            <Button size="sm" type="submit" disabled={act.isPending}>Intend</Button>
            <Button size="sm" variant="outline-secondary" disabled={act.isPending} onClick={() => act.mutate({ [key]: null })}>Take away</Button>
          </>
        ) : null}
        <span className="quiet">Changes are collected; nothing is sent before you apply them.</span>
      </Form>
      <Trouble problem={act.error} />
    </>
  );
}

/** Login shows the login of a unit's own pages, to whoever signs in again. */
export function Login({ device: d }: { device: Device }) {
  const [open, setOpen] = useState(false);
  const [password, setPassword] = useState("");
  const act = useMutation({ mutationFn: () => must(api.POST("/api/v1/devices/{id}/reveal", { params: { path: { id: d.id } }, body: { password } })) });
  const close = () => { setOpen(false); setPassword(""); act.reset(); };
  return (
    <>
      <Button size="sm" variant="outline-secondary" onClick={() => setOpen(true)}>Show its login</Button>
      <Modal show={open} onHide={close} animation={false} aria-labelledby="login-title">
        <Modal.Header closeButton><Modal.Title id="login-title" as="h2" className="h5 m-0 border-0">The login of {d.name}</Modal.Title></Modal.Header>
        <Modal.Body>
          {act.data ? (
            <dl className="facts">
              {act.data.user ? <div><dt>User</dt><dd className="mono">{act.data.user}</dd></div> : null}
              {act.data.password ? <div><dt>Password</dt><dd className="mono">{act.data.password}</dd></div> : null}
              {act.data.point_key ? <div><dt>Key of its access point</dt><dd className="mono">{act.data.point_key}</dd></div> : null}
            </dl>
          ) : (
            <Form onSubmit={(e) => { e.preventDefault(); act.mutate(); }}>
              <p>Type your own password. That you saw the login is recorded.</p>
              <Form.Group controlId="again"><Form.Label>Your password</Form.Label><Form.Control type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} /></Form.Group>
              <Trouble problem={act.error} />
              <div className="actions mt-3"><Button type="submit" disabled={act.isPending}>Show it</Button><Button variant="outline-secondary" onClick={close}>Leave it</Button></div>
            </Form>
          )}
        </Modal.Body>
      </Modal>
    </>
  );
}

/** Commission starts commissioning. What the model wants done before is confirmed first. */
export function Commission({ id, name, model, disabled, label }: { id: string; name: string; model: string; disabled: boolean; label?: string }) {
  const client = useQueryClient();
  const [ask, setAsk] = useState(false);
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const act = useMutation({ mutationFn: (prepared: boolean) => must(api.POST("/api/v1/devices/{id}/commission", { params: { path: { id } }, body: { prepared } })), onSettled: () => client.invalidateQueries() });
  const m = models.data?.find((x) => x.name === model);
  const before = m?.before ?? [];
  const start = () => { setAsk(false); act.mutate(true); };
  return (
    <>
      <Button size="sm" disabled={disabled || act.isPending} aria-label={label} onClick={() => (before.length ? setAsk(true) : act.mutate(false))}>Commission</Button>
      {act.error ? <Trouble problem={act.error} /> : null}
      <Modal show={ask} onHide={() => setAsk(false)} animation={false} aria-labelledby="before-title">
        <Modal.Header closeButton><Modal.Title id="before-title" as="h2" className="h5 m-0 border-0">Before {name} is commissioned</Modal.Title></Modal.Header>
        <Modal.Body>
          <ul>{before.map((b) => <li key={b}>{b}</li>)}</ul>
          {m?.cautions?.map((c) => <p key={c} className="wait">{c}</p>)}
          <p className="quiet">That you confirm this is recorded.</p>
          <div className="actions"><Button onClick={start}>This is done, commission it</Button><Button variant="outline-secondary" onClick={() => setAsk(false)}>Not yet</Button></div>
        </Modal.Body>
      </Modal>
    </>
  );
}
