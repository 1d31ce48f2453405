import { useEffect, useState, type ReactNode } from "react";
import { Button } from "react-bootstrap";
import type { Problem, Task } from "./api";
import { Failed } from "./api";
import Markdown from "react-markdown";

type Tone = "proven" | "waiting" | "failed" | "unknown";

const shapes: Record<Tone, ReactNode> = {
  proven: <path d="M1 6.5 4.5 10 11 2" fill="none" stroke="currentColor" strokeWidth="2" />,
  waiting: <path d="M2 1h8L6 6l4 5H2l4-5z" fill="none" stroke="currentColor" strokeWidth="1.5" />,
  failed: <path d="M6 .5 11.5 6 6 11.5.5 6z" fill="currentColor" />,
  unknown: <circle cx="6" cy="6" r="4.5" fill="none" stroke="currentColor" strokeWidth="1.5" strokeDasharray="2 2" />,
};

const tones: Record<string, Tone> = {
  same: "proven", "in step": "proven", missing: "failed", "in trouble": "failed", extra: "failed",
  adopted: "proven", online: "proven", current: "proven", done: "proven", equal: "proven", "proven by effect": "proven", holds: "proven", "signed off": "proven", fits: "proven", added: "proven", "does not fit": "failed", new: "waiting", asked: "waiting", open: "waiting", succeeded: "proven", stable: "proven",
  running: "waiting", waiting: "waiting", queued: "waiting", add: "proven", change: "waiting", refused: "failed", held: "failed", asleep: "waiting", behind: "waiting", fetching: "waiting", writing: "waiting", proving: "waiting",
  "not handed over": "waiting", contacted: "waiting", joined: "waiting", configured: "waiting", reporting: "waiting", preview: "waiting", nightly: "waiting",
  passed: "proven", updating: "waiting", soaking: "waiting", looking: "waiting", paused: "waiting", draft: "unknown", starting: "waiting", "under way": "waiting",
  failed: "failed", lost: "failed", offline: "failed", differs: "failed", fails: "failed", drift: "failed", check: "failed", worse: "failed", reverted: "failed", withdrawn: "failed",
};

/** Stamp is an outcome: a word, a shape and a colour, never colour alone. */
export function Stamp({ word, big }: { word: string; big?: boolean }) {
  const tone = tones[word] ?? "unknown";
  return (
    <span className={`stamp ${tone}${big ? " big" : ""}`}>
      <svg viewBox="0 0 12 12" aria-hidden="true">{shapes[tone]}</svg>
      {word}
    </span>
  );
}

export function Trouble({ problem, children }: { problem: Problem | Error | null | undefined; children?: ReactNode }) {
  if (!problem) return null;
  const p = problem instanceof Failed ? problem.problem : problem instanceof Error ? { title: problem.message, detail: "", next: "", fields: [] } : problem;
  return (
    <div className="trouble" role="alert">
      <strong>{p.title}</strong>
      {p.fields?.map((f) => (
        <div key={f.field + f.rule}>
          <span className="mono">{f.field}</span>: {f.rule}
          {f.passes ? <> — <span className="mono">{f.passes}</span> would pass</> : null}
        </div>
      ))}
      {p.detail ? <div>Likely cause: {p.detail}</div> : null}
      {p.next ? <div>What to do: {p.next}</div> : null}
      {children}
    </div>
  );
}

const day = new Intl.DateTimeFormat("en-GB", { day: "2-digit", month: "short", hour: "2-digit", minute: "2-digit", second: "2-digit" });

/** When is a moment, short, with the whole time on demand. */
export function When({ at }: { at: string | undefined }) {
  if (!at) return null;
  return <time className="text-nowrap" dateTime={at} title={at}>{day.format(new Date(at))}</time>;
}

/** Notes shows what a maker wrote of a version, as Markdown. It comes from elsewhere: no HTML and no pictures of its own, and its links say where they lead. */
export function Notes({ text }: { text: string | undefined }) {
  if (!text) return null;
  return (
    <div className="notes">
      <Markdown allowedElements={["p", "ul", "ol", "li", "em", "strong", "code", "pre", "blockquote", "br", "a"]} unwrapDisallowed skipHtml
        components={{ a: ({ href, children }) => <>{children}{href ? <> (<span className="mono">{href}</span>)</> : null}</> }}>{text}</Markdown>
    </div>
  );
}

export function seconds(from?: string, to?: string) {
  if (!from || !to) return "";
  return `${((Date.parse(to) - Date.parse(from)) / 1000).toFixed(1)} s`;
}

/** useNow ticks once a second while something is waited for. */
export function useNow(active: boolean) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!active) return;
    const t = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(t);
  }, [active]);
  return now;
}

const stepWords: Record<string, string> = { ahead: "ahead", running: "running", done: "done", failed: "failed" };

/** TaskSheet shows a task: its steps, what it waits for, and how it ended. */
export function TaskSheet({ task, onRetry, onCancel, busy, children }: { task: Task; onRetry: () => void; onCancel: () => void; busy: boolean; children?: ReactNode }) {
  const open = !["done", "failed", "cancelled"].includes(task.status);
  const now = useNow(open && !!task.wait);
  const left = task.wait ? Math.round((Date.parse(task.wait.until) - now) / 1000) : 0;
  const u = task.update;
  const taking = u && (u.outcome === "fetching" || u.outcome === "writing");
  return (
    <section aria-label={`${task.kind} of ${task.device}`}>
      <ol className="steps">
        {task.steps.map((s) => (
          <li key={s.name}>
            <Stamp word={stepWords[s.state] ?? s.state} />
            <span>{s.title}</span>
            <span className="quiet">{seconds(s.began, s.ended)}</span>
            {s.note && s.state !== "failed" ? <span className="note">{s.note}</span> : null}
          </li>
        ))}
      </ol>
      {open && task.wait ? (
        <div className="wait" role="status">
          {task.wait.usually_seconds > 0
            ? <>Waiting: {task.wait.what} Usually {Math.round(task.wait.usually_seconds)} s; {left > 0 ? `${left} s left` : "time is up"}. Then: {task.wait.then}</>
            : <>{task.wait.what} Then: {task.wait.then}</>}
        </div>
      ) : null}
      {open && taking ? (
        <div className="wait">
          <label>
            Do not touch the unit: {u.outcome}, {Math.round(u.done_bytes / 1024)} of {Math.round(u.of_bytes / 1024)} KiB
            <progress max={u.of_bytes} value={u.done_bytes} />
          </label>
        </div>
      ) : null}
      {task.failure ? (
        <div className="trouble" role="alert">
          <strong>{task.failure.what}</strong>
          <div>Likely cause: {task.failure.cause}</div>
          <div>What to do: {task.failure.next}</div>
          <div className="actions mt-2">{children}<Button size="sm" variant={children ? "outline-primary" : "primary"} onClick={onRetry} disabled={busy}>Try again{children ? " as it is" : ""}</Button></div>
        </div>
      ) : null}
      {open && !u?.told ? <div className="actions mt-2"><Button size="sm" variant="outline-secondary" onClick={onCancel} disabled={busy}>Cancel this task</Button></div> : null}
    </section>
  );
}

/** say writes a value as a unit or a person would. */
export function say(v: unknown): string {
  if (v === undefined || v === null) return "";
  if (typeof v === "string") return v;
  return JSON.stringify(v);
}
