import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type Rollout, type RolloutPlan, type RolloutUnit, type RolloutWave } from "../api";
import { Stamp, Trouble, When, useNow } from "../parts";

const mib = (bytes: number) => `${(bytes / 1048576).toFixed(1)} MiB`;
const order = ["lost", "failed", "reverted", "under way", "starting", "succeeded", "skipped", "ahead"];

/** Tally says how many devices are how, what is wrong first. */
export function tally(counts: Record<string, number>) {
  return order.filter((k) => counts[k]).map((k) => `${counts[k]} ${k}`).join(", ");
}

/** Strip draws the devices of a wave by how they stand, as a ruled strip with its words beside it. */
function Strip({ counts, of }: { counts: Record<string, number>; of: number }) {
  return (
    <div className="strip">
      <div className="bar" role="img" aria-label={tally(counts)}>
        {["succeeded", "skipped", "lost", "failed", "reverted", "under way", "starting", "ahead"].map((k) => (counts[k] ? <span key={k} className={k.replace(" ", "-")} style={{ flexGrow: counts[k] / Math.max(of, 1) }} title={`${counts[k]} ${k}`} /> : null))}
      </div>
      <span className="sub">{tally(counts)}</span>
    </div>
  );
}

/** RolloutLine is a rollout in a list. */
export function RolloutLine({ r }: { r: Rollout }) {
  return (
    <tr>
      <td><Link to={`/rollouts/${r.id}`}>{r.name}</Link><span className="sub">planned by {r.actor} <When at={r.planned_at} /></span></td>
      <td><Stamp word={r.status} /></td>
      <td className="num">{r.devices}</td>
      <td><Strip counts={r.counts} of={r.devices} /></td>
      <td>{r.status === "held" ? r.reason : r.next}{r.next_at ? <span className="sub">at <When at={r.next_at} /></span> : null}</td>
    </tr>
  );
}

export function RolloutTable({ list }: { list: Rollout[] }) {
  return (
    <table className="ledger folds">
      <thead><tr><th>Rollout</th><th>Stands</th><th className="num">Devices</th><th>Outcomes</th><th>Next</th></tr></thead>
      <tbody>{list.map((r) => <RolloutLine key={r.id} r={r} />)}</tbody>
    </table>
  );
}

/** RolloutsPage lists the rollouts, and plans another one. */
export function RolloutsPage({ site }: { site: string }) {
  const q = useQuery({ queryKey: ["rollouts"], queryFn: () => must(api.GET("/api/v1/rollouts")) });
  return (
    <>
      <h1>Rollouts</h1>
      <Trouble problem={q.error} />
      {q.data?.length ? <RolloutTable list={q.data} /> : q.data ? <p>No rollout was planned yet. One brings an image to many devices, in waves: the next begins when the one before is proven.</p> : <p className="quiet">Reading …</p>}
      <h2>Plan a rollout <span className="aside">nothing begins before you have seen the plan and started it</span></h2>
      <PlanForm site={site} />
    </>
  );
}

const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
const names = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

function PlanForm({ site }: { site: string }) {
  const go = useNavigate();
  const client = useQueryClient();
  const images = useQuery({ queryKey: ["images"], queryFn: () => must(api.GET("/api/v1/images")) });
  const models = useQuery({ queryKey: ["models"], queryFn: () => must(api.GET("/api/v1/models")) });
  const [f, setF] = useState({ what: "behind", name: "", model: "", room: "", tag: "", running: "", devices: "", exclude: "", trials: "", waves: "10%", atOnce: "8", perSite: "2", from: "", to: "", days: [] as string[], share: "100", soak: "15", patience: "60", returns: "1", trial: true, health: true, checks: true });
  const set = (k: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [k]: e.target.value });
  const plan = useMutation({
    mutationFn: () => {
      const body: RolloutPlan = {
        name: f.name || undefined, behind: f.what === "behind" || undefined, image: f.what === "behind" ? undefined : f.what, sites: site ? [site] : undefined, model: f.model || undefined, room: f.room || undefined, tag: f.tag || undefined, version: f.running || undefined,
        devices: names(f.devices), exclude: names(f.exclude), trials: names(f.trials),
        rules: { waves: names(f.waves), at_once: Number(f.atOnce), per_site: Number(f.perSite), hours: f.from || f.to ? `${f.from}-${f.to}` : undefined, days: f.days, share: Number(f.share), soak_minutes: Number(f.soak), patience_minutes: Number(f.patience), returns: Number(f.returns), trial: f.trial, health: f.health, checks: f.checks },
      };
      return must(api.POST("/api/v1/rollouts", { body }));
    },
    onSuccess: async (r) => { await client.invalidateQueries({ queryKey: ["rollouts"] }); await go(`/rollouts/${r.id}`); },
  });
  const field = (k: keyof typeof f, label: string, more?: object) => (
    <Form.Group controlId={`plan-${k}`}><Form.Label>{label}</Form.Label><Form.Control size="sm" value={String(f[k])} onChange={set(k)} {...more} /></Form.Group>
  );
  const tick = (k: "trial" | "health" | "checks", label: string) => <Form.Check type="checkbox" id={`plan-${k}-on`} label={label} checked={f[k]} onChange={(e) => setF({ ...f, [k]: e.target.checked })} />;
  return (
    <Form onSubmit={(e) => { e.preventDefault(); plan.mutate(); }}>
      <div className="plan">
        <Form.Group controlId="plan-what"><Form.Label>Which firmware</Form.Label>
          <Form.Select size="sm" value={f.what} onChange={set("what")}>
            <option value="behind">All that is behind, to what is intended</option>
            {images.data?.filter((i) => !i.withdrawn && !i.step).map((i) => <option key={i.sha256} value={i.sha256}>{i.firmware} {i.version} ({i.channel}), for {i.models?.join(", ")}</option>)}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="plan-model"><Form.Label>Of model</Form.Label>
          <Form.Select size="sm" value={f.model} onChange={set("model")}><option value="">any</option>{models.data?.map((m) => <option key={m.name} value={m.name}>{m.title}</option>)}</Form.Select>
        </Form.Group>
        {field("room", "In room")}
        {field("tag", "With tag")}
        {field("running", "That run version")}
        {field("devices", "Only devices (hostnames)")}
        {field("exclude", "Without devices (hostnames)")}
        {field("name", "Name", { placeholder: "from firmware and version" })}
      </div>
      <div className="plan">
        {tick("trial", "A trial goes first")}
        {field("trials", "Trial (else one a model is suggested)")}
        {field("waves", "Waves after the trial", { placeholder: "2, 25%" })}
        {field("atOnce", "At once", { type: "number", min: 1 })}
        {field("perSite", "At once at a site", { type: "number", min: 1 })}
        {field("from", "Begins from", { type: "time" })}
        {field("to", "until", { type: "time" })}
        <fieldset className="days"><legend>On</legend>{days.map((d) => <Form.Check key={d} inline type="checkbox" id={`plan-${d}`} label={d} checked={f.days.includes(d)} onChange={(e) => setF({ ...f, days: e.target.checked ? [...f.days, d] : f.days.filter((x) => x !== d) })} />)}</fieldset>
      </div>
      <div className="plan">
        {field("share", "Gate: succeeded, %", { type: "number", min: 0, max: 100 })}
        {field("soak", "Gate: soak, minutes", { type: "number", min: 0 })}
        {field("returns", "Gate: back online at most", { type: "number", min: 0 })}
        {tick("health", "Gate: does no worse")}
        {tick("checks", "Gate: checks hold")}
        {field("patience", "Wait for sleepers, minutes", { type: "number", min: 0 })}
        <div className="align-self-end"><Button type="submit" size="sm" disabled={plan.isPending}>{plan.isPending ? "Planning …" : "Show the plan"}</Button></div>
      </div>
      <p className="quiet mb-0">{site ? <>Devices of the site that is chosen above.</> : "Devices of all sites."} Hours are those of each home&apos;s own clock; without days they open each day.</p>
      <Trouble problem={plan.error} />
    </Form>
  );
}

const wrong = ["lost", "failed", "reverted"];

/** RolloutPage shows one rollout as it moves: what is next, its waves and gates, and each device. */
export function RolloutPage() {
  const { id = "" } = useParams();
  const path = { params: { path: { id } } };
  const client = useQueryClient();
  const go = useNavigate();
  const q = useQuery({ queryKey: ["rollouts", id], queryFn: () => must(api.GET("/api/v1/rollouts/{id}", path)), refetchInterval: 15_000 });
  const [reason, setReason] = useState("");
  const act = useMutation({
    mutationFn: (run: () => Promise<unknown>) => run(),
    onSuccess: () => setReason(""),
    onSettled: () => client.invalidateQueries({ queryKey: ["rollouts"] }),
  });
  if (q.error) return <><h1>Rollout</h1><Trouble problem={q.error} /></>;
  if (!q.data) return <p className="quiet">Reading …</p>;
  const r = q.data;
  const over = r.status === "done" || r.status === "cancelled";
  const body = { reason: reason || undefined };
  const say = (run: () => Promise<unknown>) => () => act.mutate(run);
  const remove = async () => {
    await must(api.DELETE("/api/v1/rollouts/{id}", path));
    await go("/rollouts");
  };
  const failed = (r.counts.failed ?? 0) + (r.counts.reverted ?? 0);
  return (
    <>
      <div className="headline">
        <h1>{r.name} <Stamp word={r.status} big /></h1>
        <div className="actions">
          {r.status === "draft" ? <>
            <Button size="sm" disabled={act.isPending || r.devices === 0} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/start", path)))}>Start it</Button>
            <Button size="sm" variant="outline-primary" disabled={act.isPending} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/replan", path)))}>Plan it again</Button>
            <Button size="sm" variant="outline-secondary" disabled={act.isPending} onClick={say(remove)}>Throw it away</Button>
          </> : null}
          {r.status === "running" ? <Button size="sm" disabled={act.isPending} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/pause", { ...path, body })))}>Pause</Button> : null}
          {r.status === "paused" ? <Button size="sm" disabled={act.isPending} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/go-on", { ...path, body })))}>Go on</Button> : null}
          {failed && r.status !== "draft" && r.status !== "cancelled" ? <Button size="sm" variant="outline-primary" disabled={act.isPending} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/retry", { ...path, body: {} })))}>{failed === 1 ? "Try the failed one again" : `Try the ${failed} failed again`}</Button> : null}
          {!over && r.status !== "draft" ? <Button size="sm" variant="outline-danger" disabled={act.isPending} onClick={say(() => must(api.POST("/api/v1/rollouts/{id}/cancel", { ...path, body })))}>Cancel it</Button> : null}
          {r.status !== "draft" ? <a className="btn btn-sm btn-outline-primary" href={`/api/v1/rollouts/${r.id}/report.html`}>Report</a> : null}
          {over ? <Button size="sm" variant="outline-secondary" disabled={act.isPending} onClick={say(async () => {
            const back = await must(api.POST("/api/v1/rollouts", { body: { reverts: r.id, rules: {} } }));
            await go(`/rollouts/${back.id}`);
          })}>Plan to take it back</Button> : null}
        </div>
      </div>
      <Trouble problem={act.error} />
      {r.status === "held" ? (
        <div className="trouble" role="alert">
          <strong>{r.reason}</strong>
          <div>Nothing more begins. What is under way finishes.</div>
          <Form className="actions mt-2" onSubmit={(e) => { e.preventDefault(); act.mutate(() => must(api.POST("/api/v1/rollouts/{id}/go-on", { ...path, body }))); }}>
            <Form.Control size="sm" className="w-auto flex-grow-1" required aria-label="Why it may go on" placeholder="Why it may go on, for the record" value={reason} onChange={(e) => setReason(e.target.value)} />
            <Button size="sm" type="submit" variant="outline-primary" disabled={act.isPending}>Go on all the same</Button>
          </Form>
        </div>
      ) : <Next r={r} />}
      <div className="counts">
        <span><b>{r.devices}</b> devices</span>
        {order.filter((k) => r.counts[k]).map((k) => <span key={k}><b>{r.counts[k]}</b> {k}</span>)}
        {r.left_out ? <span><b>{r.left_out}</b> left out</span> : null}
      </div>
      <h2>Waves</h2>
      <div className="waves">{r.waves.map((w) => <Wave key={w.wave} w={w} />)}</div>
      <Units r={r} act={(run) => act.mutate(run)} />
      <div className="columns">
        <div>
          <h2>Rules</h2>
          <dl className="facts">{r.rules.map((x) => <div key={x.rule}><dt>{x.rule}</dt><dd>{x.value}</dd></div>)}</dl>
        </div>
        <div>
          <h2>Through each uplink</h2>
          <dl className="facts">{r.homes?.map((h) => <div key={h.site}><dt>{h.name}</dt><dd>{h.devices} {h.devices === 1 ? "device" : "devices"}, {mib(h.bytes)}</dd></div>)}</dl>
        </div>
      </div>
      {r.started_at ? <><h2>Over time</h2><img className="drawing paper" alt={`How many devices of ${r.name} had their outcome, over time`} src={`/api/v1/rollouts/${r.id}/progress.svg?at=${q.dataUpdatedAt}`} /></> : null}
    </>
  );
}

function Next({ r }: { r: Rollout }) {
  const now = useNow(!!r.next_at);
  const left = r.next_at ? Math.round((Date.parse(r.next_at) - now) / 60000) : 0;
  return (
    <div className="wait" role="status">
      {r.reason ? <>{r.reason} </> : null}Next: {r.next}
      {r.next_at ? <> <When at={r.next_at} />{r.status === "running" && left > 0 ? `, in about ${left} min` : ""}.</> : null}
      {r.ends_at ? <> All should be over by <When at={r.ends_at} />.</> : null}
    </div>
  );
}

function Wave({ w }: { w: RolloutWave }) {
  const last = w.gates?.at(-1);
  const before = w.gates?.slice(0, -1) ?? [];
  const bad = last?.conditions?.filter((c) => !c.holds) ?? [];
  return (
    <section className={`wave ${w.stands}`} aria-label={w.name}>
      <div className="top-line"><strong>{w.name}</strong> <Stamp word={w.stands} /></div>
      <Strip counts={w.counts} of={w.devices} />
      <span className="sub">{w.devices} {w.devices === 1 ? "device" : "devices"}, {mib(w.bytes)}</span>
      {w.begins && w.ends ? <span className="sub">expected <When at={w.begins} /> to <When at={w.ends} /></span> : w.ends ? <span className="sub">expected to end <When at={w.ends} /></span> : null}
      {before.map((g) => <span key={g.at} className="sub">Held <When at={g.at} />: {g.conditions?.filter((c) => !c.holds).map((c) => c.seen).join(" ")} {g.by ? <b>{g.by} let it go on: {g.reason}</b> : "It was tried again."}</span>)}
      {last ? (
        <details open={last.held && !last.by}>
          <summary>{last.early ? <>Held before the wave was over{last.by ? `; ${last.by} let it go on` : ""}</> : last.held ? <>Gate: {bad.length} of {last.conditions?.length} do not hold{last.by ? `; ${last.by} let it go on` : ""}</> : <>Gate: all {last.conditions?.length} hold</>}</summary>
          <span className="sub">looked at <When at={last.at} /></span>
          {last.by ? <span className="sub">{last.by}: {last.reason}</span> : null}
          <ul className="gate">
            {last.conditions?.map((c) => <li key={c.name}><Stamp word={c.holds ? "holds" : "fails"} /> <b>{c.name}</b>: {c.seen} <span className="quiet">(expected: {c.expected})</span></li>)}
          </ul>
        </details>
      ) : null}
    </section>
  );
}

const filters = ["all", "wrong", "under way", "ahead", "succeeded", "skipped", "left out"] as const;

function Units({ r, act }: { r: Rollout; act: (run: () => Promise<unknown>) => void }) {
  const [only, setOnly] = useState<(typeof filters)[number]>("all");
  const moving = (r.counts["under way"] ?? 0) + (r.counts.starting ?? 0) > 0;
  const q = useQuery({
    queryKey: ["rollouts", r.id, "units", only], refetchInterval: moving ? 3_000 : false,
    queryFn: async () => {
      const stands = only === "all" || only === "wrong" ? undefined : only;
      const page = await must(api.GET("/api/v1/rollouts/{id}/units", { params: { path: { id: r.id }, query: { stands, limit: 1000 } } }));
      return only === "wrong" ? { ...page, units: page.units.filter((u) => wrong.includes(u.stands)) } : page;
    },
  });
  const path = { params: { path: { id: r.id } } };
  const says = (u: RolloutUnit) => [u.detail, u.why, !u.ended && u.risky ? "An interruption would leave it dead." : "", !u.ended && u.sleeps ? "At its wake." : "", (u.legs ?? 0) > 1 ? `First ${u.route}.` : "", (u.attempt ?? 0) > 1 ? `Try ${u.attempt}.` : ""].filter(Boolean).join(" ");
  return (
    <>
      <h2>Devices
        <span className="aside actions" role="group" aria-label="Which devices">{filters.map((f) => <Button key={f} size="sm" variant={only === f ? "primary" : "outline-secondary"} aria-pressed={only === f} onClick={() => setOnly(f)}>{f}</Button>)}</span>
      </h2>
      <Trouble problem={q.error} />
      {q.data && q.data.units.length === 0 ? <p className="quiet">None.</p> : null}
      {q.data?.units.length ? (
        <div className="scroll"><table className="ledger folds">
          <thead><tr><th>Device</th><th>Wave</th><th>From</th><th>To</th><th>Stands</th><th className="num">Takes</th><th>What is to know</th>{r.status === "draft" ? null : <th>Do</th>}</tr></thead>
          <tbody>
            {q.data.units.map((u) => (
              <tr key={u.device_id}>
                <td className="text-nowrap"><Link to={`/devices/${u.device_id}`}>{u.device}</Link> <span className="quiet">{u.site}</span></td>
                <td className="text-nowrap">{u.wave_name}</td>
                <td className="mono">{u.from}</td>
                <td className="mono">{u.to}</td>
                <td><Stamp word={u.stands} /></td>
                <td className="num text-nowrap">{u.began && u.ended ? took((Date.parse(u.ended) - Date.parse(u.began)) / 1000) : u.usual_seconds ? <span className="quiet">≈ {took(u.usual_seconds)}</span> : null}</td>
                <td>{says(u)}</td>
                {r.status === "draft" ? null : <td>
                  {u.stands === "ahead" && r.status !== "cancelled" ? <Button size="sm" variant="outline-secondary" aria-label={`Exclude ${u.device}`} onClick={() => act(() => must(api.POST("/api/v1/rollouts/{id}/exclude", { ...path, body: { devices: [u.device_id], reason: "in the console" } })))}>Exclude</Button> : null}
                  {(wrong.includes(u.stands) || u.stands === "skipped") && r.status !== "cancelled" ? <Button size="sm" variant="outline-secondary" aria-label={`Try ${u.device} again`} onClick={() => act(() => must(api.POST("/api/v1/rollouts/{id}/retry", { ...path, body: { devices: [u.device_id] } })))}>Try again</Button> : null}
                </td>}
              </tr>
            ))}
          </tbody>
        </table></div>
      ) : null}
      {q.data?.next ? <p className="quiet">The first {q.data.units.length} of {q.data.total}; the report has them all.</p> : null}
    </>
  );
}

function took(s: number) {
  if (s < 90) return `${Math.round(s)} s`;
  if (s < 5400) return `${Math.round(s / 60)} min`;
  return `${(s / 3600).toFixed(1)} h`;
}
