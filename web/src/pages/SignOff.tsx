import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useParams } from "react-router";
import { api, must, type CheckResult, type SignOff } from "../api";
import { Stamp, Trouble, When, useNow } from "../parts";

/** Checks lists the results of a device's checks as a sheet does. */
export function Checks({ list }: { list: CheckResult[] }) {
  return (
    <table className="ledger folds">
      <thead><tr><th>Check</th><th>Outcome</th><th>Expected</th><th>Seen</th><th>Evidence</th><th>When</th></tr></thead>
      <tbody>{list.map((c) => (
        <tr key={c.name}><td>{c.name}</td><td><Stamp word={c.verdict} /></td><td className="mono">{c.expected}</td><td className="mono">{c.seen}</td><td>{c.evidence}</td><td><When at={c.at} /></td></tr>
      ))}</tbody>
    </table>
  );
}

const urgent: SignOff["standing"][] = ["fails", "open", "unchecked", "signed off"];

/** SignOffPage shows how the devices of a site, or of all, stand by their checks. */
export function SignOffPage({ site }: { site: string }) {
  const client = useQueryClient();
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => must(api.GET("/api/v1/sites")) });
  const at = sites.data?.find((s) => s.key === site);
  const [room, setRoom] = useState("");
  const here = at?.rooms.some((r) => r.name === room) ? room : "";
  const shown = sites.data?.filter((s) => !site || s.key === site) ?? [];
  const parts = useQueries({ queries: shown.map((s) => ({
    queryKey: ["sign-off", s.key, here], refetchInterval: 5_000,
    queryFn: () => must(api.GET("/api/v1/sites/{id}/sign-off", { params: { path: { id: s.key }, query: { room: here || undefined } } })),
  })) });
  const run = useMutation({
    mutationFn: async (bodies: { devices?: string[]; site?: string; room?: string }[]) => {
      const out = [];
      for (const body of bodies) out.push(...await must(api.POST("/api/v1/checks", { body })));
      return out;
    },
    onSettled: () => client.invalidateQueries(),
  });
  const list = parts.flatMap((p) => p.data ?? []).sort((a, b) => urgent.indexOf(a.standing) - urgent.indexOf(b.standing) || a.device.localeCompare(b.device));
  const q = { error: parts.find((p) => p.error)?.error, isPending: sites.isPending || parts.some((p) => p.isPending) };
  const count = (s: SignOff["standing"]) => list.filter((d) => d.standing === s).length;
  const refused = run.data?.filter((x) => x.problem) ?? [];
  return (
    <>
      <div className="headline"><h1>Sign-off</h1><div className="actions">
        {at ? <>
          <a className="btn btn-sm btn-outline-primary" href={`/api/v1/sites/${at.key}/report.html`} target="_blank" rel="noreferrer">Hand-over report</a>
          <a className="btn btn-sm btn-outline-primary" href={`/api/v1/sites/${at.key}/labels.html${here ? `?room=${encodeURIComponent(here)}` : ""}`} target="_blank" rel="noreferrer">Labels</a>
        </> : <span className="quiet">Choose a site for its report and labels.</span>}
        {at ? (
          <Form.Select size="sm" className="w-auto" aria-label="Room" value={here} onChange={(e) => setRoom(e.target.value)}>
            <option value="">All rooms</option>
            {at.rooms.map((r) => <option key={r.id}>{r.name}</option>)}
          </Form.Select>
        ) : null}
        <Button size="sm" disabled={!list.length || run.isPending} onClick={() => run.mutate(shown.map((s) => ({ site: s.key, room: here || undefined })))}>Check {here ? "this room" : "all"}</Button>
      </div></div>
      <p className="quiet m-0">Nothing moves while units are checked: each is commanded to stay as it is. Each is checked by itself after commissioning, after an update and after changed settings.</p>
      <Trouble problem={q.error ?? run.error} />
      {refused.length ? <div className="trouble" role="alert"><strong>{refused.length} were not checked.</strong>{refused.map((x) => <div key={x.device_id}>{x.device}: {x.problem}</div>)}</div> : null}
      <div className="counts" role="status">
        {list.length ? <span><Stamp word="signed off" /> {count("signed off")} of {list.length}</span> : null}
        {count("fails") ? <span><Stamp word="fails" /> {count("fails")}</span> : null}
        {count("open") ? <span><Stamp word="asked" /> {count("open")}</span> : null}
        {count("unchecked") ? <span><Stamp word="unchecked" /> {count("unchecked")}</span> : null}
      </div>
      {q.isPending ? null : list.length === 0 ? <p>No unit {here ? "in this room" : at ? "of this site" : "of any site"} is in service yet. The <Link to="/bench">bench</Link> brings them there.</p> : (
        <table className="ledger folds">
          <thead><tr><th>Device</th><th>Room</th><th>Stands</th><th className="num">Hold</th><th>Not as it should be</th><th>Since</th><th>Do</th></tr></thead>
          <tbody>{list.map((d) => (
            <tr key={d.device_id}>
              <td><Link to={`/devices/${d.device_id}`}>{d.device}</Link></td>
              <td>{d.room}</td>
              <td><Stamp word={d.standing} /></td>
              <td className="num">{d.checks.filter((c) => c.verdict === "holds").length}</td>
              <td>{d.checks.filter((c) => c.verdict === "fails" || c.verdict === "asked").map((c) => <div key={c.name}>{c.name}: <span className="mono">{c.seen}</span>{c.verdict === "fails" ? <span className="quiet"> instead of {c.expected}</span> : null}</div>)}</td>
              <td><When at={d.at} /></td>
              <td>{d.task ? <Making of={d} /> : <span className="actions">
                <Button size="sm" variant="outline-primary" aria-label={`Check ${d.device}`} disabled={run.isPending} onClick={() => run.mutate([{ devices: [d.device_id] }])}>Check</Button>
                {d.shows.length ? <Link className="btn btn-sm btn-outline-secondary" aria-label={`I am beside ${d.device}`} to={`/devices/${d.device_id}/beside`}>I am beside it</Link> : null}
              </span>}</td>
            </tr>
          ))}</tbody>
        </table>
      )}
    </>
  );
}

function Making({ of }: { of: SignOff }) {
  const task = of.task!;
  const now = useNow(!!task.wait);
  const left = task.wait ? Math.round((Date.parse(task.wait.until) - now) / 1000) : 0;
  return <><Stamp word={task.status} /> <span className="sub">{task.wait ? `${task.wait.what} ${left > 0 ? `${left} s left.` : ""}` : task.steps.find((s) => s.state === "running")?.note ?? "Being checked."}</span></>;
}

/** Beside is for a person who stands beside a unit with a phone: it shows itself,
 * and they say what they see. */
export function Beside() {
  const { id = "" } = useParams();
  const client = useQueryClient();
  const path = { params: { path: { id } } };
  const q = useQuery({ queryKey: ["sign-off", "device", id], queryFn: () => must(api.GET("/api/v1/devices/{id}/sign-off", path)) });
  const [asked, setAsked] = useState<{ capability: string; check: CheckResult } | null>(null);
  const [last, setLast] = useState<CheckResult | null>(null);
  const ask = useMutation({
    mutationFn: (show: string) => must(api.POST("/api/v1/devices/{id}/witness", { ...path, body: { capability: show === "blink" ? undefined : show } })),
    onSuccess: (check, show) => { setLast(null); setAsked({ capability: show === "blink" ? "" : show, check }); },
    onSettled: () => client.invalidateQueries(),
  });
  const answer = useMutation({
    mutationFn: (yes: boolean) => must(api.POST("/api/v1/devices/{id}/witness/answer", { ...path, body: { capability: asked?.capability || undefined, yes } })),
    onSuccess: (check) => { setAsked(null); setLast(check); },
    onSettled: () => client.invalidateQueries(),
  });
  if (q.error) return <><h1>Beside a unit</h1><Trouble problem={q.error} /></>;
  if (!q.data) return <p className="quiet">Reading …</p>;
  const d = q.data;
  return (
    <div className="beside">
      <h1>{d.device}</h1>
      <p className="quiet m-0">{[d.room, d.model].filter(Boolean).join(" · ")}</p>
      <Trouble problem={ask.error ?? answer.error} />
      {ask.isPending ? <p className="wait" role="status">{ask.variables === "blink" ? "It is asked to blink." : "Look now: it switches over, and back after three seconds."}</p> : null}
      {asked && !ask.isPending ? (
        <section aria-label="What did you see?" role="status">
          <p className="question">{asked.check.expected}</p>
          <p>Did you see that?</p>
          <div className="actions">
            <Button size="lg" disabled={answer.isPending} onClick={() => answer.mutate(true)}>Yes</Button>
            <Button size="lg" variant="outline-primary" disabled={answer.isPending} onClick={() => answer.mutate(false)}>No</Button>
            <Button size="lg" variant="outline-secondary" disabled={ask.isPending} onClick={() => ask.mutate(asked.capability || "blink")}>Show it again</Button>
          </div>
        </section>
      ) : null}
      {last ? <p role="status"><Stamp big word={last.verdict} /> {last.name}: {last.seen}.</p> : null}
      {!asked && !ask.isPending ? (
        d.shows.length === 0 ? <p>This unit cannot be asked to show itself.</p> : (
          <div className="shows">
            {d.shows.map((s) => <Button key={s} size="lg" variant={s === "blink" ? "primary" : "outline-primary"} onClick={() => ask.mutate(s)}>{s === "blink" ? "Let it blink" : `Switch ${s} over and back`}</Button>)}
          </div>
        )
      ) : null}
      <h2>Seen by people so far</h2>
      {d.checks.some((c) => c.evidence === "a person") ? <ul>{d.checks.filter((c) => c.evidence === "a person").map((c) => <li key={c.name}><Stamp word={c.verdict} /> {c.name}: {c.seen}, <When at={c.at} /></li>)}</ul> : <p className="quiet">Nothing yet.</p>}
      <p><Link to={`/devices/${id}`}>To its page</Link></p>
    </div>
  );
}
