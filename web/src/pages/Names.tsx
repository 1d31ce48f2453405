import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useParams } from "react-router";
import { api, must } from "../api";
import { Trouble } from "../parts";

/** NamesPage shows what a changed naming scheme would rename, before it does. */
export function NamesPage() {
  const { site = "" } = useParams();
  const client = useQueryClient();
  const path = { params: { path: { id: site } } };
  const q = useQuery({ queryKey: ["sites", site], queryFn: () => must(api.GET("/api/v1/sites/{id}", path)) });
  const [scheme, setScheme] = useState<{ hostname: string; topic: string; label: string } | null>(null);
  const now = scheme ?? q.data?.scheme;
  const [asked, setAsked] = useState(now);
  useEffect(() => {
    const t = setTimeout(() => setAsked(now), 300);
    return () => clearTimeout(t);
  }, [now]);
  const list = useQuery({ queryKey: ["device", "names", site, asked], enabled: !!asked, retry: false, queryFn: () => must(api.POST("/api/v1/sites/{id}/scheme/preview", { ...path, body: { scheme: asked! } })) });
  const act = useMutation({
    mutationFn: async (rename: boolean) => {
      await must(api.PATCH("/api/v1/sites/{id}", { ...path, body: { scheme: now! } }));
      if (rename) await must(api.POST("/api/v1/sites/{id}/scheme/rename", { ...path, body: { scheme: now! } }));
    },
    onSettled: () => client.invalidateQueries(),
  });
  if (q.error) return <><h1>Names</h1><Trouble problem={q.error} /></>;
  if (!q.data || !now) return <p className="quiet">Reading …</p>;
  const field = (name: "hostname" | "topic" | "label", title: string) => (
    <Form.Group controlId={`scheme-${name}`} className="flex-grow-1"><Form.Label>{title}</Form.Label>
      <Form.Control size="sm" className="mono" value={now[name]} onChange={(e) => setScheme({ ...now, [name]: e.target.value })} /></Form.Group>
  );
  const served = list.data?.filter((r) => r.in_service).length ?? 0;
  return (
    <>
      <h1>Names at {q.data.name}</h1>
      <p className="quiet m-0">Patterns may use {"{site}"}, {"{room}"}, {"{kind}"}, {"{name}"}, {"{number}"} and {"{hardware_id}"}.</p>
      <div className="filters">{field("hostname", "Hostnames")}{field("topic", "Topics")}{field("label", "Labels")}</div>
      <Trouble problem={list.error ?? act.error} />
      <h2>Would be renamed <span className="aside" role="status">{list.data ? `${list.data.length} devices, ${served} of them in service` : ""}</span></h2>
      {list.data?.length ? (
        <table className="ledger folds">
          <thead><tr><th>Device</th><th>Hostname</th><th>Topic</th><th>Label</th><th>Its unit</th></tr></thead>
          <tbody>{list.data.map((r) => (
            <tr key={r.device_id}>
              <td><Link to={`/devices/${r.device_id}`}>{r.device}</Link></td>
              {(["hostname", "topic", "label"] as const).map((k) => <td key={k} className="mono">{r.from[k] === r.to[k] ? <span className="quiet">{r.to[k]}</span> : <>{r.to[k]}<span className="sub">was {r.from[k]}</span></>}</td>)}
              <td>{r.in_service ? "is told when it is applied" : "is told at commissioning"}{r.listeners.length ? <span className="sub">listening on the old topic: {r.listeners.join(", ")}</span> : null}</td>
            </tr>
          ))}</tbody>
        </table>
      ) : list.data ? <p>Every device has the name that this scheme makes.</p> : null}
      <div className="actions mt-2">
        <Button size="sm" disabled={!list.data?.length || act.isPending} onClick={() => act.mutate(true)}>Use this scheme and rename {list.data?.length ?? ""} devices</Button>
        <Button size="sm" variant="outline-primary" disabled={!scheme || !!list.error || act.isPending} onClick={() => act.mutate(false)}>Use it for new devices only</Button>
      </div>
      {act.isSuccess ? <p className="wait" role="status">Saved. What units in service have to be told waits under <Link to="/drift">Drift</Link>.</p> : null}
    </>
  );
}
