import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

interface Change { kind: string; id: string }

/** reread reads again what a change touches; "reset" touches everything. */
function reread(client: QueryClient, { kind, id }: Change) {
  const again = (key: string) => void client.invalidateQueries({ queryKey: [key] });
  if (kind === "reset") {
    void client.invalidateQueries();
    return;
  }
  if (kind === "event") {
    again("events");
    return;
  }
  if (kind === "messages") {
    void client.invalidateQueries({ queryKey: ["device", id] });
    return;
  }
  again("attention");
  if (kind === "device" || kind === "task") {
    again("devices");
    again("device");
    again("tasks");
    again("sign-off");
  } else {
    again(`${kind}s`);
  }
}

/** follow listens to the stream until the returned function is called. A page
 * that is put aside lets go of its stream: a browser has few connections. */
function follow(tell: (c: Change) => void): () => void {
  let stream: EventSource | null = null;
  const open = () => {
    stream = new EventSource("/api/v1/stream");
    stream.addEventListener("change", (e: MessageEvent<string>) => tell(JSON.parse(e.data) as Change));
    stream.addEventListener("reset", () => tell({ kind: "reset", id: "" }));
  };
  const hide = () => { stream?.close(); stream = null; };
  const show = (e: PageTransitionEvent) => {
    if (!e.persisted || stream) return;
    tell({ kind: "reset", id: "" });
    open();
  };
  open();
  window.addEventListener("pagehide", hide);
  window.addEventListener("pageshow", show);
  return () => {
    window.removeEventListener("pagehide", hide);
    window.removeEventListener("pageshow", show);
    hide();
  };
}

/**
 * useLive follows the service's stream and reads again what changed. One window
 * of a browser holds the stream and tells the others; when it is closed, the next
 * one takes it. Where a browser has no locks, as on plain HTTP, each window has
 * a stream of its own. After an interruption the browser resumes it by itself.
 */
export function useLive() {
  const client = useQueryClient();
  useEffect(() => {
    if (!("locks" in navigator)) return follow((c) => reread(client, c));
    const others = new BroadcastChannel("fado-stream");
    others.onmessage = (e: MessageEvent<Change>) => reread(client, e.data);
    const tell = (c: Change) => { reread(client, c); others.postMessage(c); };
    const over = new AbortController();
    const asked = Date.now();
    const held = navigator.locks.request("fado-stream", { signal: over.signal }, () => new Promise<void>((done) => {
      // It waited for another window; what changed in between is not known.
      if (Date.now() - asked > 1000) tell({ kind: "reset", id: "" });
      const leave = follow(tell);
      over.signal.addEventListener("abort", () => { leave(); done(); });
    }));
    held.catch(() => undefined); // it was given up while waiting for its turn
    return () => { over.abort(); others.close(); };
  }, [client]);
}
