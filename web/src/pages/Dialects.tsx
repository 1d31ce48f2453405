import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type Fault, type Trialed } from "../api";
import { Stamp, Trouble } from "../parts";

/** Dialects lists how each firmware family is spoken to. */
export function Dialects() {
  const q = useQuery({ queryKey: ["dialects"], queryFn: () => must(api.GET("/api/v1/dialects")) });
  return (
    <>
      <div className="headline"><h1>Dialects</h1><Link className="btn btn-sm btn-primary" to="/dialects/new">New dialect</Link></div>
      <p className="quiet m-0">A dialect is a file that says how one firmware family is spoken to. A family that Fado does not know yet needs no more than such a file.</p>
      <Trouble problem={q.error} />
      <table className="ledger folds mt-2">
        <thead><tr><th>Dialect</th><th>For</th><th>Models</th><th className="num">Settings</th><th className="num">Restarts</th><th>Its units</th></tr></thead>
        <tbody>{q.data?.map((d) => (
          <tr key={d.name}>
            <td><Link to={`/dialects/${d.name}`}>{d.name}</Link></td><td>{d.title}</td><td>{d.models.join(", ")}</td>
            <td className="num">{d.settings.length}</td><td className="num">{d.restarts}</td><td>{d.sleeps ? "sleep, and wake for moments" : "are always awake"}</td>
          </tr>
        ))}</tbody>
      </table>
    </>
  );
}

const blank = `dialect: my-family
title: My family of units
grammar: 1

set_up:
  access_point: {name: "unit-{last6}", open: true}
  at: "http://192.168.4.1"

identify:
  get: /about
  read_text: {hardware_id: '^id (?<value>\\S+)$', version: '^version (?<value>\\S+)$'}

settings:
  - title: all settings
    sets: [wifi.ssid, wifi.passphrase, hostname, broker.host, broker.port, broker.user, broker.password, topic]
    post: /settings
    form: {ssid: "{wifi.ssid}", key: "{wifi.passphrase}", host: "{hostname}", server: "{broker.host}", port: "{broker.port}", user: "{broker.user}", word: "{broker.password}", topic: "{topic}"}
    restarts: true
    leaves: true

messages:
  - {kind: unit, topic: "{topic}/id", retained: true, read_text: {hardware_id: '^(?<value>\\S+)$'}}
`;

/** DialectPage shows a dialect, with an editor that checks as one types. */
export function DialectPage() {
  const { name = "" } = useParams();
  const fresh = name === "new";
  const q = useQuery({ queryKey: ["dialects", name], enabled: !fresh, queryFn: () => must(api.GET("/api/v1/dialects/{id}", { params: { path: { id: name } } })) });
  if (q.error) return <><h1>Dialect</h1><Trouble problem={q.error}><Link to="/dialects">To the list</Link></Trouble></>;
  if (!fresh && !q.data) return <p className="quiet">Reading …</p>;
  return (
    <>
      <h1>{fresh ? "A new dialect" : q.data?.title}</h1>
      {q.data ? <span className="quiet">{q.data.name}{q.data.models.length ? ` · spoken by ${q.data.models.join(", ")}` : ""}</span> : <span className="quiet">Change the file below until it fits your unit, then try it.</span>}
      {q.data ? (
        <div className="columns">
          {[q.data.sheet.slice(0, 2), q.data.sheet.slice(2)].map((half, i) => (
            <div key={i}>{half.map((s) => <div key={s.title}><h2>{s.title}</h2><ul className="plain">{s.lines?.map((l) => <li key={l}>{l}</li>)}</ul></div>)}</div>
          ))}
        </div>
      ) : null}
      <Editor key={name} name={fresh ? "" : name} file={q.data?.file ?? blank} />
    </>
  );
}

function Editor({ name, file }: { name: string; file: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [text, setText] = useState(file);
  const [faults, setFaults] = useState<Fault[] | null>(null);
  const [unit, setUnit] = useState("");
  const [model, setModel] = useState("");
  const area = useRef<HTMLTextAreaElement>(null);
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  useEffect(() => {
    let live = true;
    const t = setTimeout(() => {
      must(api.POST("/api/v1/dialects/check", { body: { file: text } })).then((c) => { if (live) setFaults(c.faults); }, () => { if (live) setFaults(null); });
    }, 250);
    return () => { live = false; clearTimeout(t); };
  }, [text]);
  const save = useMutation({
    mutationFn: () => must(api.PUT("/api/v1/dialects", { body: { file: text } })),
    onSuccess: async (d) => { await client.invalidateQueries(); if (d.name !== name) void navigate(`/dialects/${d.name}`); },
  });
  const trial = useMutation({ mutationFn: () => must(api.POST("/api/v1/dialects/try", { body: { file: text, unit: unit || undefined, model: model || undefined } })) });
  const go = (f: Fault) => {
    const a = area.current;
    if (!a) return;
    const lines = text.split("\n");
    const at = lines.slice(0, Math.max(f.line - 1, 0)).join("\n").length + (f.line > 1 ? 1 : 0) + Math.max(f.column - 1, 0);
    a.focus();
    a.setSelectionRange(at, at + (lines[f.line - 1]?.length ?? 0) - Math.max(f.column - 1, 0));
    a.scrollTop = ((f.line - 6) / lines.length) * a.scrollHeight;
  };
  const good = faults?.length === 0;
  return (
    <>
      <h2>The file <span className="aside" role="status">{faults === null ? "checking …" : good ? "no fault" : `${faults.length} ${faults.length === 1 ? "fault" : "faults"}`}</span></h2>
      <Form.Control as="textarea" ref={area} className="mono file" spellCheck={false} aria-label="Dialect file" rows={24} value={text} onChange={(e) => { setText(e.target.value); setFaults(null); }} />
      {faults && faults.length > 0 ? (
        <ul className="faults" aria-label="Faults">{faults.map((f, i) => (
          <li key={i}><button type="button" onClick={() => go(f)} className="mono">{f.line}:{f.column}</button> {f.what}{f.suggest ? <> — <span className="quiet">{f.suggest}</span></> : null}</li>
        ))}</ul>
      ) : null}
      <div className="actions mt-2 align-items-center">
        <Button size="sm" disabled={!good || save.isPending || text === file} onClick={() => save.mutate()}>Save</Button>
        <Button size="sm" variant="outline-primary" disabled={!good || trial.isPending} onClick={() => trial.mutate()}>{trial.isPending ? "Playing the set-up …" : "Try it against a simulated unit"}</Button>
        <Form.Select size="sm" className="w-auto" aria-label="Model of the simulated unit" value={model} onChange={(e) => setModel(e.target.value)}>
          <option value="">of the first model that speaks it</option>
          {models.data?.map((m) => <option key={m.name} value={m.name}>{m.title}</option>)}
        </Form.Select>
      </div>
      <details className="mt-2"><summary>The simulated unit, described by a file</summary>
        <Form.Control as="textarea" className="mono" spellCheck={false} aria-label="Unit file" rows={10} placeholder="Leave it empty for a unit that ships with Fado." value={unit} onChange={(e) => setUnit(e.target.value)} />
      </details>
      <Trouble problem={save.error ?? trial.error} />
      {trial.data ? <Trial out={trial.data} /> : null}
    </>
  );
}

function Trial({ out }: { out: Trialed }) {
  return (
    <section aria-label="Trial">
      <h2>Trial <span className="aside">a simulated {out.model}</span></h2>
      <p className={out.works ? "" : "trouble"} role="status">{out.works ? "The dialect works with this unit." : "It does not work with this unit yet; the last step says why."}</p>
      <ol className="steps">{out.steps.map((s, i) => (
        <li key={i}>
          <Stamp word={s.works ? "done" : "failed"} /><span>{s.title}</span><span />
          {s.note ? <span className="note">{s.note}</span> : null}
          {s.exchanges.length ? (
            <details className="note" open={!s.works}><summary>{s.exchanges.length} {s.exchanges.length === 1 ? "exchange" : "exchanges"}</summary>
              {s.exchanges.map((x, n) => <pre key={n} className="mono">{[x.request, x.body ? `sent   ${x.body}` : "", x.reply ? `reply  ${x.reply.trim()}` : "", x.error].filter(Boolean).join("\n")}</pre>)}
            </details>
          ) : null}
        </li>
      ))}</ol>
    </section>
  );
}
