import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useSearchParams } from "react-router";
import { api, must, type SaidPage } from "../api";
import { Stamp, Trouble, say } from "../parts";

const kinds = ["presence", "unit", "settings", "state", "health", "answer", "update", "wake", "command"] as const;
type Kind = (typeof kinds)[number];

/** shown is how many messages stand on the page at most. */
const shown = 200;

/** Messages shows what is said on the broker as it is said, with what it means. */
export function Messages({ site }: { site: string }) {
  const [query, setQuery] = useSearchParams();
  const device = query.get("device") ?? "";
  const kind = (kinds as readonly string[]).includes(query.get("kind") ?? "") ? query.get("kind") as Kind : undefined;
  const room = query.get("room") ?? "";
  const [text, setText] = useState("");
  const contains = useLater(text, 300);
  const [paused, setPaused] = useState(false);
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => must(api.GET("/api/v1/sites")) });
  const rooms = sites.data?.find((s) => s.key === site)?.rooms ?? [];
  const named = useQuery({ queryKey: ["device", device], enabled: !!device, queryFn: () => must(api.GET("/api/v1/devices/{id}", { params: { path: { id: device } } })) });
  const here = rooms.some((r) => r.name === room) ? room : "";
  const which = { site: device ? undefined : site || undefined, room: device ? undefined : here || undefined, device: device || undefined, kind, contains: contains || undefined };
  const key = JSON.stringify(which);
  const client = useQueryClient();
  const q = useQuery({
    queryKey: ["said", key], refetchInterval: paused ? false : 1_000, gcTime: 0,
    // Each reading goes on where the one before ended.
    queryFn: async (): Promise<SaidPage> => {
      const old = client.getQueryData<SaidPage>(["said", key]);
      const page = await must(api.GET("/api/v1/messages", { params: { query: { ...which, after: old?.next ?? 0, limit: shown } } }));
      return old && page.next >= old.next ? { ...page, messages: [...old.messages, ...page.messages].slice(-shown) } : page;
    },
  });
  const choose = (name: string, value: string) => setQuery((old) => { const n = new URLSearchParams(old); if (value) n.set(name, value); else n.delete(name); return n; }, { replace: true });
  const messages = [...(q.data?.messages ?? [])].reverse();
  const csv = `/api/v1/messages.csv?${new URLSearchParams(Object.entries({ ...which, limit: "2000" }).flatMap(([k, v]) => (v ? [[k, v]] : [])))}`;
  return (
    <>
      <div className="headline"><h1>Messages</h1>
        <div className="actions">
          <a className="btn btn-sm btn-outline-primary" href={csv} download="messages.csv">Export as CSV</a>
          <Button size="sm" aria-pressed={paused} onClick={() => setPaused(!paused)}>{paused ? "Go on" : "Pause"}</Button>
        </div>
      </div>
      <p className="quiet m-0">What units said on the broker and were told in the last hour, the latest first, with what it means by their dialect. What a unit is told may hold a secret and is not shown; commands are.</p>
      <div className="actions mt-2">
        {device ? <span>Only <Link to={`/devices/${device}`}>{named.data?.name ?? device}</Link> <Button size="sm" variant="link" onClick={() => choose("device", "")}>show all</Button></span> : rooms.length ? (
          <Form.Select size="sm" className="w-auto" aria-label="Room" value={here} onChange={(e) => choose("room", e.target.value)}>
            <option value="">All rooms</option>
            {rooms.map((r) => <option key={r.id}>{r.name}</option>)}
          </Form.Select>
        ) : null}
        <Form.Select size="sm" className="w-auto" aria-label="Kind" value={kind ?? ""} onChange={(e) => choose("kind", e.target.value)}>
          <option value="">All kinds</option>
          {kinds.map((k) => <option key={k}>{k}</option>)}
        </Form.Select>
        <Form.Control size="sm" className="w-auto" type="search" aria-label="Text in topic or payload" placeholder="in topic or payload" value={text} onChange={(e) => setText(e.target.value)} />
        <span className="quiet" role="status">{q.isPending && !messages.length ? "Reading …" : paused ? "Paused; nothing is lost meanwhile." : `${messages.length} shown${q.data?.left_out ? `, ${q.data.left_out} more came at once` : ""}`}</span>
      </div>
      <Trouble problem={q.error} />
      {messages.length ? (
        <table className="ledger folds said">
          <thead><tr><th>When</th>{device ? null : <th>Device</th>}<th>Topic</th><th>Kind</th><th>Means</th><th>Sent</th></tr></thead>
          <tbody>{messages.map((m) => (
            <tr key={m.seq}>
              <td className="mono text-nowrap"><time dateTime={m.at} title={m.at}>{clock.format(new Date(m.at))}</time></td>
              {device ? null : <td><Link to={`/devices/${m.device_id}`}>{m.device}</Link></td>}
              <td className="mono" title={m.topic}>{m.below}</td>
              <td>{m.kind || <span className="quiet">not known</span>}{m.kept ? <span className="sub">kept, not live</span> : null}</td>
              <td>{m.means ? m.means : m.says ? Object.entries(m.says).map(([k, v]) => <span key={k} className="d-block">{k} <b className="mono">{k === "unreadable" ? <Stamp word="failed" /> : null} {say(v)}</b></span>) : null}</td>
              <td className="mono text-break">{m.hidden ? <span className="quiet">••• {m.size} bytes to the unit</span> : m.size === 0 ? <span className="quiet">empty: what was kept is taken away</span> : <>{m.hex ? "hex " : ""}{m.payload.length > 300 ? `${m.payload.slice(0, 300)}…` : m.payload}</>}</td>
            </tr>
          ))}</tbody>
        </table>
      ) : q.isPending ? null : <p className="mt-2">{q.data?.since ? "Nothing was said in the last hour that fits." : "Nothing was said in the last hour."}</p>}
    </>
  );
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit", fractionalSecondDigits: 3 });

/** useLater follows a value once it has stood still for a while. */
function useLater(value: string, ms: number) {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const t = setTimeout(() => setLate(value), ms);
    return () => clearTimeout(t);
  }, [value, ms]);
  return late;
}
