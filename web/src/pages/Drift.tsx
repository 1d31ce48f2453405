import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";
import { api, must } from "../api";
import { Stamp, Trouble, When, say } from "../parts";

/** DriftPage lists what is not on the units as intended, to be accepted or corrected. */
export function DriftPage({ site }: { site: string }) {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["device", "drift", site], queryFn: () => must(api.GET("/api/v1/drift", { params: { query: { site } } })) });
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const act = useMutation({ mutationFn: (run: () => Promise<unknown>) => run(), onSettled: () => { setChosen(new Set()); return client.invalidateQueries(); } });
  const list = q.data?.drift ?? [];
  const id = (x: { device_id: string; key: string }) => `${x.device_id} ${x.key}`;
  const picked = list.filter((x) => chosen.has(id(x)));
  const toggle = (key: string) => setChosen((old) => { const n = new Set(old); if (!n.delete(key)) n.add(key); return n; });
  const devices = [...new Set(picked.map((x) => x.device_id))];
  const correct = () => act.mutate(async () => {
    const out = await must(api.POST("/api/v1/apply", { body: { devices } }));
    const failed = out.filter((a) => a.problem);
    if (failed.length) throw new Error(failed.map((a) => `${a.device}: ${a.problem}`).join(" "));
  });
  const accept = () => act.mutate(async () => {
    for (const d of devices) await must(api.POST("/api/v1/drift/accept", { body: { device: d, settings: picked.filter((x) => x.device_id === d).map((x) => x.key) } }));
  });
  return (
    <>
      <div className="headline"><h1>Drift</h1>
        <div className="actions">
          <Button size="sm" disabled={!picked.length || act.isPending} onClick={correct}>Correct {devices.length || ""} {devices.length === 1 ? "unit" : "units"}</Button>
          <Button size="sm" variant="outline-primary" disabled={!picked.length || picked.some((x) => x.reported === undefined) || act.isPending} onClick={accept}>Accept {picked.length || ""} as they are</Button>
        </div>
      </div>
      <p className="quiet m-0">Settings that are not on the units as intended. To correct writes the intended value to the unit; to accept makes the unit's value the intended one.</p>
      <Trouble problem={q.error ?? act.error} />
      <p role="status" className="quiet mt-2 mb-0">{q.isPending ? "Reading …" : `${list.length} ${list.length === 1 ? "setting" : "settings"} on ${q.data?.devices ?? 0} ${q.data?.devices === 1 ? "device" : "devices"}`}</p>
      {list.length ? (
        <table className="ledger folds">
          <thead><tr>
            <th><Form.Check type="checkbox" aria-label="All" checked={picked.length === list.length} onChange={() => setChosen(picked.length === list.length ? new Set() : new Set(list.map(id)))} /></th>
            <th>Device</th><th>Setting</th><th>Intended</th><th>On the unit</th><th>State</th><th>Since</th><th>Intended by</th></tr></thead>
          <tbody>{list.map((x) => (
            <tr key={id(x)}>
              <td><Form.Check type="checkbox" aria-label={`${x.title} of ${x.device}`} checked={chosen.has(id(x))} onChange={() => toggle(id(x))} /></td>
              <td><Link to={`/devices/${x.device_id}`}>{x.device}</Link>{site ? null : <span className="sub">{x.site}</span>}</td>
              <td>{x.title}</td>
              <td className="mono">{say(x.intended)}</td>
              <td className="mono">{x.reported === undefined ? "—" : say(x.reported)}</td>
              <td><Stamp word={x.state} /></td>
              <td><When at={x.since} /></td>
              <td>{x.changed_by} {x.changed_at ? <span className="sub"><When at={x.changed_at} /></span> : null}</td>
            </tr>
          ))}</tbody>
        </table>
      ) : q.isPending ? null : <p>Every unit that has reported holds what is intended.</p>}
    </>
  );
}
