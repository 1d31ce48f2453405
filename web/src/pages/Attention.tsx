import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, must, type Device, type Task } from "../api";
import { Stamp, Trouble, useNow } from "../parts";
import { RolloutTable } from "./Rollouts";

const why: Record<string, (d: Device) => string> = {
  behind: (d) => `Runs ${d.running ?? "?"}; ${d.intended ?? "?"} is intended. Its page offers the update.`,
  drift: (d) => `${d.drift} ${d.drift === 1 ? "setting is" : "settings are"} not on the unit as intended. Its page shows them and applies them.`,
  offline: () => "Has left the broker. See that it has power.",
  check: (d) => (d.checks ?? []).map((c) => `${c.name}: ${c.seen}.`).join(" ") || "A check does not hold any more.",
};

/** AttentionPage says what needs a person first. */
export function AttentionPage({ site }: { site: string }) {
  const q = useQuery({ queryKey: ["attention", site], queryFn: () => must(api.GET("/api/v1/attention", { params: { query: { site } } })) });
  if (q.error) return <><h1>What needs you</h1><Trouble problem={q.error} /></>;
  if (!q.data) return <p className="quiet">Reading …</p>;
  const a = q.data;
  const ready = a.sighted.filter((s) => s.source === "radio");
  const unclaimed = ready.filter((s) => !s.device_id);
  const elsewhere = a.sighted.length - ready.length;
  return (
    <>
      <h1>What needs you</h1>
      <div className="counts">
        <Link to="/devices"><b>{a.counts.devices}</b> devices</Link>
        <Link to="/devices?stage=adopted"><b>{a.counts.adopted}</b> adopted</Link>
        <Link to="/devices?presence=online"><b>{a.counts.online}</b> online</Link>
        <Link to="/devices?standing=behind"><b>{a.counts.behind}</b> behind</Link>
        <Link to="/bench"><b>{ready.length}</b> in set-up mode</Link>
        {a.queued ? <span><b>{a.queued}</b> waiting for the hub</span> : null}
      </div>
      {a.problems.map((p) => <div key={p} className="trouble">{p}</div>)}
      {a.rollouts.length ? <><h2>Rollouts <span className="aside"><Link to="/rollouts">all rollouts</Link></span></h2><RolloutTable list={a.rollouts} /></> : null}
      <h2>Devices {a.total > a.devices.length ? <span className="aside">the first {a.devices.length} of {a.total}</span> : null}</h2>
      {a.devices.length === 0 ? <p>No device needs you.</p> : (
        <table className="ledger folds">
          <thead><tr><th>Device</th><th>Room</th><th>Why</th><th>What is known, and what to do</th></tr></thead>
          <tbody>
            {a.devices.map((d) => (
              <tr key={d.id}>
                <td className="text-nowrap"><Link to={`/devices/${d.id}`}>{d.name}</Link></td>
                <td className="text-nowrap">{[d.room, site ? "" : d.site].filter(Boolean).join(", ")}</td>
                <td><Stamp word={d.attention ?? ""} /></td>
                <td>{d.task?.failure ? <>{d.task.failure.what} <span className="quiet">{d.task.failure.next}</span></> : why[d.attention ?? ""]?.(d)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <h2>Under way</h2>
      {a.tasks.length === 0 ? <p className="quiet">No task is under way.</p> : <Tasks tasks={a.tasks} />}
      <h2>On the bench <span className="aside"><Link to="/bench">all of the bench</Link></span></h2>
      {elsewhere ? <p>{elsewhere} {elsewhere === 1 ? "unit that is" : "units that are"} not in service {elsewhere === 1 ? "was" : "were"} seen elsewhere: in a home's network, on the broker, or by a person.</p> : null}
      {ready.length === 0 ? <p className="quiet">No unit is in set-up mode.</p> : (
        <p>{ready.length} {ready.length === 1 ? "unit is" : "units are"} in set-up mode{unclaimed.length ? <>, {unclaimed.length} of them unclaimed: <span className="mono">{unclaimed.map((s) => s.name).join(", ")}</span></> : null}.</p>
      )}
    </>
  );
}

function Waiting({ wait }: { wait: NonNullable<Task["wait"]> }) {
  const now = useNow(true);
  const left = Math.round((Date.parse(wait.until) - now) / 1000);
  return <span className="sub">{wait.what}{wait.usually_seconds > 0 ? <> Usually {Math.round(wait.usually_seconds)} s; {left > 0 ? `${left} s left` : "time is up"}.</> : null}</span>;
}

/** Doing says at which step a task is, and what it waits for. */
export function Doing({ task }: { task: Task }) {
  const at = task.steps.findIndex((s) => s.state === "running");
  return (
    <>
      {at >= 0 ? <>{at + 1} of {task.steps.length}: {task.steps[at]?.title}</> : null}{" "}
      {task.wait ? <Waiting wait={task.wait} /> : task.status === "queued" ? <span className="sub">Waits for a place on the bench.</span> : null}
    </>
  );
}

export function Tasks({ tasks }: { tasks: Task[] }) {
  return (
    <table className="ledger folds">
      <thead><tr><th>Device</th><th>Task</th><th>Status</th><th>Step</th></tr></thead>
      <tbody>
        {tasks.map((t) => (
          <tr key={t.id}>
            <td><Link to={`/devices/${t.device_id}`}>{t.device}</Link></td>
            <td>{t.kind}</td>
            <td><Stamp word={t.status} /></td>
            <td><Doing task={t} /></td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
