import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";
import { api, must, Failed, type Device, type Found, type Problem } from "../api";
import { Notes, Stamp, Trouble, When } from "../parts";

const round = (v: number) => Number(v.toPrecision(4)).toString();
const kib = (bytes: number) => `${Math.ceil(bytes / 1024)} KiB`;

/** Matrix shows which version runs where: a row a model at a site, a line a version. */
export function Matrix({ site }: { site: string }) {
  const q = useQuery({ queryKey: ["devices", "matrix"], queryFn: () => must(api.GET("/api/v1/firmware/matrix")) });
  const cells = (q.data ?? []).filter((c) => !site || c.site === site);
  const most = Math.max(1, ...cells.map((c) => c.devices));
  if (q.error) return <Trouble problem={q.error} />;
  if (!q.data) return <p className="quiet">Reading …</p>;
  if (cells.length === 0) return <p className="quiet">No unit has been commissioned yet.</p>;
  return (
    <table className="ledger folds">
      <thead><tr><th>Site</th><th>Model</th><th>Runs</th><th>Devices</th><th>Intended</th><th>Standing</th></tr></thead>
      <tbody>
        {cells.map((c, i) => {
          const first = i === 0 || cells[i - 1]?.site !== c.site || cells[i - 1]?.model !== c.model;
          return (
            <tr key={`${c.site} ${c.model} ${c.running} ${c.standing}`}>
              <td>{first ? c.site : ""}</td>
              <td>{first ? c.model : ""}</td>
              <td className="mono">{c.running || "not said"}</td>
              <td><Link to={`/devices?site=${c.site}&model=${c.model}&standing=${c.standing}`} aria-label={`${c.devices} ${c.devices === 1 ? "device" : "devices"}, ${c.model} at ${c.site}, version ${c.running || "not said"}`} className="tally"><span style={{ width: `${Math.max(4, (c.devices / most) * 120)}px` }} className={c.standing} aria-hidden="true" /> {c.devices}</Link></td>
              <td className="mono">{first ? c.intended?.join(", ") : ""}</td>
              <td><Stamp word={c.standing} /></td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** Releases shows what feeds offer, and takes it when a person says so. */
export function Releases() {
  const client = useQueryClient();
  const feeds = useQuery({ queryKey: ["feeds"], queryFn: () => must(api.GET("/api/v1/feeds")) });
  const q = useQuery({ queryKey: ["feeds", "releases"], queryFn: () => must(api.GET("/api/v1/releases")) });
  const act = useMutation({ mutationFn: (run: () => Promise<unknown>) => run(), onSettled: () => client.invalidateQueries() });
  if (!feeds.data?.length) return <p className="quiet">No feed is read. <span className="mono">fado feed add NAME URL</span> adds one.</p>;
  return (
    <>
      <Trouble problem={feeds.error ?? q.error ?? act.error} />
      {feeds.data.map((f) => (
        <p key={f.id} className="m-0">
          {f.name} <span className="quiet mono">{f.url}</span> {f.trouble ? <><Stamp word="in trouble" /> {f.trouble} <span className="quiet">since <When at={f.trouble_since} /></span></> : <span className="quiet">read <When at={f.read_at} /></span>}{" "}
          <Button size="sm" variant="outline-primary" disabled={act.isPending} onClick={() => act.mutate(() => must(api.POST("/api/v1/feeds/{id}/poll", { params: { path: { id: f.id } } })))} aria-label={`Read ${f.name} now`}>Read now</Button>
        </p>
      ))}
      {q.data?.length ? (
        <table className="ledger folds">
          <thead><tr><th>Firmware</th><th>Version</th><th>Channel</th><th>Models</th><th className="num">Size</th><th>Seen</th><th>Do</th></tr></thead>
          <tbody>
            {q.data.map((r) => (
              <tr key={r.sha256}>
                <td>{r.firmware}<Notes text={r.notes} />{r.twin ? <span className="sub">Another file of this version is offered, too.</span> : null}</td>
                <td className="mono">{r.version}</td>
                <td><Stamp word={r.channel} /></td>
                <td>{r.here?.join(", ")}</td>
                <td className="num">{kib(r.size)}</td>
                <td><When at={r.first_seen} /></td>
                <td><Button size="sm" disabled={act.isPending} aria-label={`Take ${r.firmware} ${r.version}`} onClick={() => act.mutate(() => must(api.POST("/api/v1/releases/{id}/take", { params: { path: { id: r.sha256 } } })))}>Take it</Button></td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : q.data ? <p className="quiet">Nothing new is offered.</p> : null}
    </>
  );
}

/** Archive looks through a zip of builds before anything is kept. */
export function Archive() {
  const client = useQueryClient();
  const [file, setFile] = useState<File>();
  const [list, setList] = useState<Found[]>();
  const look = useMutation({
    mutationFn: async (keep: boolean) => {
      const form = new FormData();
      form.set("facts", "{}");
      form.set("file", file!);
      const r = await fetch(`/api/v1/images/archive${keep ? "?keep=true" : ""}`, { method: "POST", body: form });
      if (!r.ok) throw new Failed((await r.json()) as Problem);
      return (await r.json()) as Found[];
    },
    onSuccess: async (found, keep) => { setList(found); if (keep) await client.invalidateQueries(); },
  });
  const fresh = list?.filter((f) => f.outcome === "new").length ?? 0, refused = list?.filter((f) => f.outcome === "refused").length ?? 0;
  return (
    <>
      <Form className="actions" onSubmit={(e) => { e.preventDefault(); look.mutate(false); }}>
        <Form.Control size="sm" className="w-auto" type="file" accept=".zip" required aria-label="Zip archive of builds" onChange={(e) => { setFile((e.target as HTMLInputElement).files?.[0]); setList(undefined); }} />
        <Button size="sm" type="submit" variant="outline-primary" disabled={look.isPending}>{look.isPending ? "Looking …" : "See what is in it"}</Button>
        {fresh && !refused ? <Button size="sm" disabled={look.isPending} onClick={() => look.mutate(true)}>Add {fresh === 1 ? "the image" : `${fresh} images`}</Button> : null}
      </Form>
      <Trouble problem={look.error} />
      {list ? (
        <>
          <p role="status" className="mb-1">{refused ? `${refused} of ${list.length} files are refused, so nothing can be added.` : `${list.length} files were found.`}</p>
          <table className="ledger folds">
            <thead><tr><th>File</th><th>Firmware</th><th>Version</th><th>Models</th><th className="num">Size</th><th>Outcome</th></tr></thead>
            <tbody>{list.map((f) => <tr key={f.name}><td className="mono">{f.name}</td><td>{f.firmware}</td><td className="mono">{f.version}</td><td>{f.models?.join(", ")}</td><td className="num">{kib(f.size)}</td><td><Stamp word={f.outcome} />{f.why ? <span className="sub">{f.why}</span> : null}</td></tr>)}</tbody>
          </table>
        </>
      ) : null}
    </>
  );
}

/** FirmwareOf shows by what a device is behind, which images suit it, and its record. */
export function FirmwareOf({ device: d, held, update }: { device: Device; held: boolean; update: (sha: string) => void }) {
  const path = { params: { path: { id: d.id } } };
  const [open, setOpen] = useState(false);
  const gap = useQuery({ queryKey: ["device", d.id, "behind", d.running, d.intended], queryFn: () => must(api.GET("/api/v1/devices/{id}/behind", path)) });
  const fits = useQuery({ queryKey: ["device", d.id, "fit"], enabled: open, queryFn: () => must(api.GET("/api/v1/devices/{id}/fit", path)) });
  const record = useQuery({ queryKey: ["device", d.id, "updates"], queryFn: () => must(api.GET("/api/v1/devices/{id}/updates", path)) });
  const g = gap.data;
  return (
    <>
      {g && g.standing === "behind" ? (
        <div className="mt-2 mb-1">Behind{g.since ? <> since <When at={g.since} /></> : null}{g.releases.length ? <>, by {g.releases.length} {g.releases.length === 1 ? "version" : "versions"}:</> : null}
          {g.releases.map((r) => <div key={r.sha256}><span className="mono">{r.version}</span>{r.notes ? <Notes text={r.notes} /> : <span className="quiet"> without notes</span>}</div>)}
        </div>
      ) : null}
      <Button size="sm" variant="outline-secondary" aria-expanded={open} onClick={() => setOpen(!open)}>{open ? "Hide the images" : "Which images suit it?"}</Button>
      <Trouble problem={gap.error ?? fits.error ?? record.error} />
      {open && fits.data ? (fits.data.length ? (
        <table className="ledger folds mt-1">
          <thead><tr><th>Version</th><th>Suits</th><th>Why</th><th>Do</th></tr></thead>
          <tbody>{fits.data.map((f) => (
            <tr key={f.image}>
              <td className="mono">{f.version}</td>
              <td><Stamp word={f.fits ? "fits" : "does not fit"} /></td>
              <td>{f.sentence}</td>
              <td>{f.fits ? <Button size="sm" disabled={held} aria-label={`Update to ${f.version}`} onClick={() => update(f.image)}>Update{(f.route?.length ?? 0) > 1 ? ` in ${f.route!.length} steps` : ""}</Button> : null}</td>
            </tr>
          ))}</tbody>
        </table>
      ) : <p className="quiet">There is no image for a {d.model} yet.</p>) : null}
      {record.data?.length ? (
        <table className="ledger folds mt-2">
          <thead><tr><th>Update</th><th>Outcome</th><th>By</th><th className="num">Took</th><th>Seen</th></tr></thead>
          <tbody>{record.data.map((u) => (
            <tr key={u.task}>
              <td><span className="mono">{u.from} → {u.route && u.route.length > 1 ? u.route.join(" → ") : u.to}</span><span className="sub"><When at={u.at} /></span></td>
              <td><Stamp word={u.outcome} /></td>
              <td>{u.actor}</td>
              <td className="num">{u.seconds ? `${Math.round(u.seconds)} s` : ""}</td>
              <td>{u.failure ? u.failure.what : u.evidence?.find((e) => e.name.includes("version"))?.seen}{u.health?.map((h) => <span key={h.what} className="sub">{h.what} {round(h.before)} → {round(h.after)} {h.unit}{h.worse ? <> <Stamp word="worse" /></> : null}</span>)}</td>
            </tr>
          ))}</tbody>
        </table>
      ) : null}
    </>
  );
}
