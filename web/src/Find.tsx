import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import { Form } from "react-bootstrap";
import { useNavigate } from "react-router";
import { api, must } from "./api";

type Hit = { key: string; text: string; detail: string; run: () => void };

/** Find is the one field that finds devices and does what there is to do. */
export function Find() {
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const go = useNavigate();
  const id = useId();
  const input = useRef<HTMLInputElement>(null);
  const search = text.trim();
  const devices = useQuery({
    queryKey: ["devices", "find", search],
    enabled: open && search.length > 1,
    queryFn: () => must(api.GET("/api/v1/devices", { params: { query: { search, limit: 8 } } })),
  });
  useEffect(() => {
    const slash = (e: KeyboardEvent) => {
      if (e.key === "/" && !(e.target as HTMLElement).closest("input, textarea, select")) {
        e.preventDefault();
        input.current?.focus();
      }
    };
    window.addEventListener("keydown", slash);
    return () => window.removeEventListener("keydown", slash);
  }, []);
  const places: [string, string, string][] = [
    ["Attention", "what needs you first", "/"],
    ["Devices", "the list", "/devices"],
    ["Add a device", "by name, room and model", "/devices?add=1"],
    ["Bench", "units in set-up mode", "/bench"],
    ["Scan for units", "let the radio list access points", "/bench?scan=1"],
    ["Firmware", "images and intended versions", "/firmware"],
    ["Add an image", "a firmware file", "/firmware?add=1"],
    ["Devices that are behind", "firmware older than intended", "/devices?standing=behind"],
    ["Devices offline", "not reachable now", "/devices?presence=offline"],
    ["Rollouts", "updates of many devices, in waves", "/rollouts"],
    ["Plan a rollout", "an image, or all that is behind", "/rollouts"],
    ["Activity", "what happened, by whom", "/activity"],
  ];
  const hits: Hit[] = [];
  if (open && search) {
    for (const d of devices.data?.devices ?? []) {
      hits.push({ key: d.id, text: d.name, detail: `${d.room ?? ""} ${d.hostname} ${d.stage}`, run: () => void go(`/devices/${d.id}`) });
    }
    for (const [name, detail, to] of places) {
      if (name.toLowerCase().includes(search.toLowerCase())) hits.push({ key: name, text: name, detail, run: () => void go(to) });
    }
  }
  const take = (h: Hit | undefined) => {
    if (!h) return;
    h.run();
    setText("");
    setOpen(false);
    input.current?.blur();
  };
  return (
    <div className="find">
      <Form.Control
        ref={input} size="sm" type="search" role="combobox" aria-label="Find a device or do something" placeholder="Find a device or do something  ( / )"
        aria-expanded={open && hits.length > 0} aria-controls={`${id}-list`} aria-activedescendant={hits[at] ? `${id}-${at}` : undefined} autoComplete="off"
        value={text} onFocus={() => setOpen(true)} onBlur={() => setTimeout(() => setOpen(false), 150)}
        onChange={(e) => { setText(e.target.value); setAt(0); setOpen(true); }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") { e.preventDefault(); setAt(Math.min(at + 1, hits.length - 1)); }
          if (e.key === "ArrowUp") { e.preventDefault(); setAt(Math.max(at - 1, 0)); }
          if (e.key === "Enter") take(hits[at]);
          if (e.key === "Escape") { setText(""); setOpen(false); }
        }}
      />
      {open && search ? (
        <ul id={`${id}-list`} role="listbox" aria-label="Found">
          {hits.map((h, i) => (
            <li key={h.key} id={`${id}-${i}`} role="option" aria-selected={i === at} onMouseDown={() => take(h)}>
              {h.text}<small>{h.detail}</small>
            </li>
          ))}
          {hits.length === 0 ? <li role="option" aria-selected="false">{devices.isFetching ? "Looking …" : "Nothing of that name. Accents and case do not matter."}</li> : null}
        </ul>
      ) : null}
    </div>
  );
}
