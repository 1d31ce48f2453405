import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";
import { api, must, type Hub, type HubThing } from "../api";
import { Stamp, Trouble, When } from "../parts";

/** Hubs shows each hub, whether it answers, and what it holds against what it should. */
export function Hubs() {
  const q = useQuery({ queryKey: ["hubs"], queryFn: () => must(api.GET("/api/v1/hubs")) });
  return (
    <>
      <h1>Hubs and brokers</h1>
      <Brokers />
      <p className="quiet mt-4 mb-0">What each home’s hub holds, asked now, against what Fado gave it. Every ten minutes, and when a hub answers again, Fado compares by itself and puts back what is missing.</p>
      <Trouble problem={q.error} />
      {q.data?.length === 0 ? <p>No hub is on record. Add one with <span className="mono">fado hub add</span>.</p> : null}
      {q.data?.map((h) => <One key={h.id} hub={h} />)}
    </>
  );
}

/** Brokers shows how each broker stands, as the service sees it. */
function Brokers() {
  const q = useQuery({ queryKey: ["brokers"], queryFn: () => must(api.GET("/api/v1/brokers")), refetchInterval: 15_000 });
  if (q.error) return <Trouble problem={q.error} />;
  if (!q.data?.length) return null;
  return (
    <table className="ledger folds mt-3">
      <thead><tr><th>Broker</th><th>Address</th><th>Stands</th><th>Round trip</th><th>Certificate</th><th>Units sign in with</th></tr></thead>
      <tbody>
        {q.data.map((b) => (
          <tr key={b.id}>
            <td>{b.name}</td>
            <td className="mono">{b.host}:{b.port}{b.tls ? ", TLS" : ""}</td>
            <td>
              <Stamp word={!b.link ? "unchecked" : !b.link.connected ? "offline" : b.link.trouble ? "in trouble" : "online"} />
              {b.link?.trouble ? <div>{b.link.trouble} <span className="quiet">{b.link.next}</span></div> : b.link ? <div className="quiet">since <When at={b.link.since} /></div> : null}
            </td>
            <td className="mono">{b.link?.round_trip_ms ? `${b.link.round_trip_ms.toFixed(b.link.round_trip_ms < 1 ? 2 : 1)} ms` : ""}</td>
            <td>{b.link?.certificate ? <>for {b.link.certificate.names}, until <When at={b.link.certificate.until} /></> : b.tls ? "not seen yet" : "none"}</td>
            <td>{b.accounts}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function One({ hub }: { hub: Hub }) {
  const client = useQueryClient();
  const [all, setAll] = useState(false);
  const path = { params: { path: { id: hub.id } } };
  const view = useQuery({ queryKey: ["hubs", hub.id, "things"], retry: false, queryFn: () => must(api.GET("/api/v1/hubs/{id}/things", path)) });
  const act = useMutation({ mutationFn: () => must(api.POST("/api/v1/hubs/{id}/catch-up", path)), onSettled: () => client.invalidateQueries({ queryKey: ["hubs"] }) });
  const things = view.data?.things ?? [];
  const off = things.filter((t) => t.standing !== "same");
  const shown = all ? things : off;
  const wanting = off.some((t) => t.standing !== "waiting" && t.standing !== "undescribed");
  return (
    <section aria-label={hub.name} className="mt-4">
      <div className="headline">
        <h2 className="m-0">{hub.name} <Stamp word={hub.trouble ? "in trouble" : view.data ? (off.length ? "differs" : "in step") : "unchecked"} /></h2>
        <div className="actions">
          <Button size="sm" variant="outline-primary" disabled={view.isFetching} onClick={() => void view.refetch()}>{view.isFetching ? "Asking …" : "Compare again"}</Button>
          <Button size="sm" disabled={act.isPending || (!wanting && !hub.waiting)} onClick={() => act.mutate()}>Bring it in step</Button>
        </div>
      </div>
      <dl className="facts">
        {hub.notice ? <div><dt>Listens, told by</dt><dd className="mono">{hub.notice}</dd></div> : <div><dt>Directory</dt><dd className="mono">{hub.directory}</dd></div>}
        {hub.account ? <div><dt>Account on the broker</dt><dd className="mono">{hub.account}</dd></div> : null}
        <div><dt>Answered</dt><dd>{hub.answered_at ? <When at={hub.answered_at} /> : "not yet"}</dd></div>
        {hub.waiting ? <div><dt>Waiting for it</dt><dd>{hub.waiting} {hub.waiting === 1 ? "thing" : "things"}</dd></div> : null}
        {hub.trouble && !view.error ? <div><dt>Trouble</dt><dd>{hub.trouble} <span className="quiet">since <When at={hub.trouble_since} /></span></dd></div> : null}
      </dl>
      <Trouble problem={view.error ?? act.error} />
      {view.data ? <p role="status" className="mt-2 mb-1">{view.data.summary.charAt(0).toUpperCase() + view.data.summary.slice(1)}, asked <When at={view.data.at} />.{view.data.strangers ? ` It holds ${view.data.strangers} more that ${view.data.strangers === 1 ? "is" : "are"} none of Fado’s and left alone.` : ""}</p> : view.isPending ? <p className="quiet">Asking it what it holds …</p> : null}
      {things.length ? <Form.Check type="switch" id={`all-${hub.id}`} label={`Show all ${things.length}`} checked={all} onChange={(e) => setAll(e.target.checked)} /> : null}
      {shown.length ? (
        <table className="ledger folds">
          <thead><tr><th>Thing</th><th>Room</th><th>Standing</th><th>Where</th></tr></thead>
          <tbody>{shown.map((t) => <Row key={t.id} thing={t} />)}</tbody>
        </table>
      ) : null}
    </section>
  );
}

function Row({ thing: t }: { thing: HubThing }) {
  return (
    <tr>
      <td>{t.device ? <Link to={`/devices/${t.device}`}>{t.name}</Link> : t.name || <span className="mono">{t.id}</span>}</td>
      <td>{t.room}</td>
      <td><Stamp word={t.standing} /></td>
      <td>
        {t.differences?.map((x) => (
          <div key={x.at}>{x.at ? <><span className="mono">{x.at}</span> is {x.theirs ? <span className="mono">{short(x.theirs)}</span> : "not there"}{x.ours ? x.theirs ? <> instead of <span className="mono">{short(x.ours)}</span></> : null : " and should not be"}</> : x.ours}</div>
        ))}
        {t.standing === "extra" ? "It has left this hub, which still holds it." : null}
        {t.standing === "missing" ? "The hub has lost it." : null}
        {t.tries ? `Sent ${t.tries} times without success.` : null}
      </td>
    </tr>
  );
}

const short = (s: string) => (s.length > 80 ? `${s.slice(0, 80)}…` : s);
