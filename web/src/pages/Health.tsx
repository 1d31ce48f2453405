import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Form } from "react-bootstrap";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { api, must, type HealthSeries } from "../api";
import { Trouble } from "../parts";

const titles: Record<HealthSeries["what"], string> = { signal: "Signal", "free memory": "Free memory", battery: "Battery", interval: "Between two readings", returns: "Came online" };
const reaches = [{ hours: 24, word: "a day" }, { hours: 72, word: "three days" }, { hours: 720, word: "thirty days" }, { hours: 2160, word: "ninety days" }];

/** Health shows how a unit did: one small chart for each thing that it says of itself. */
export function Health({ device }: { device: string }) {
  const [hours, setHours] = useState(24);
  const q = useQuery({ queryKey: ["health", device, hours], refetchInterval: (q) => (q.state.data?.series.length ? 60_000 : 5_000), queryFn: () => must(api.GET("/api/v1/devices/{id}/health", { params: { path: { id: device }, query: { hours } } })) });
  const list = q.data?.series ?? [];
  // One span of time for all, so that they can be read against each other.
  const times = list.flatMap((s) => s.spans.map((x) => Date.parse(x.at) / 1000));
  const from = Math.min(...times), until = Math.max(...times) + (q.data?.span_seconds ?? 300);
  return (
    <>
      <h2>How its unit does <Form.Select size="sm" className="w-auto d-inline-block ms-2" aria-label="How far back" value={hours} onChange={(e) => setHours(Number(e.target.value))}>
        {reaches.map((r) => <option key={r.hours} value={r.hours}>{r.word}</option>)}
      </Form.Select></h2>
      <Trouble problem={q.error} />
      {list.length ? <div className="charts">{list.map((s) => <Chart key={s.what} series={s} span={q.data?.span_seconds ?? 300} from={from} until={Math.max(until, from + 3600)} />)}</div> : q.isPending ? <p className="quiet">Reading …</p> : <p className="quiet">It has not said yet how it does. What it says is shown within a minute.</p>}
    </>
  );
}

const memory = (v: number) => `${(v / 1024).toFixed(1)} KiB`;
const text = (s: HealthSeries, v: number) => (s.unit === "bytes" ? memory(v) : `${Math.round(v * 10) / 10} ${s.unit}`);

/** Chart draws the mean of each span within the band between lowest and highest. */
function Chart({ series: s, span, from, until }: { series: HealthSeries; span: number; from: number; until: number }) {
  const box = useRef<HTMLDivElement>(null);
  const counted = s.what === "returns";
  const total = s.spans.reduce((n, x) => n + x.sum, 0);
  const last = s.spans.at(-1)?.last ?? 0;
  const low = Math.min(...s.spans.map((x) => x.low)), high = Math.max(...s.spans.map((x) => x.high));
  const label = counted ? `${total} ${total === 1 ? "time" : "times"}` : `${text(s, last)}; ${text(s, low)} to ${text(s, high)}`;
  useEffect(() => {
    const clock = new Intl.DateTimeFormat("en-GB", until - from > 2 * 86400 ? { day: "2-digit", month: "short" } : { hour: "2-digit", minute: "2-digit" });
    const at = box.current;
    if (!at) return;
    const ink = getComputedStyle(at).getPropertyValue("--ink").trim() || "#24406b";
    const quiet = getComputedStyle(at).getPropertyValue("--quiet").trim() || "#666";
    const x: number[] = [], lows: (number | null)[] = [], highs: (number | null)[] = [], means: (number | null)[] = [];
    s.spans.forEach((p) => {
      const t = Date.parse(p.at) / 1000;
      const before = x.at(-1);
      if (before !== undefined && t - before > span * 1.5) { // nothing was said for a while: a gap, not a line
        x.push(before + span); lows.push(null); highs.push(null); means.push(null);
      }
      const scale = s.unit === "bytes" ? 1 / 1024 : 1;
      x.push(t); lows.push(p.low * scale); highs.push(p.high * scale); means.push((counted ? p.sum : p.mean) * scale);
    });
    const axis = { stroke: quiet, grid: { show: false }, ticks: { size: 4 }, font: "11px IBM Plex Sans", size: 24 };
    const plot = new uPlot({
      width: at.clientWidth, height: 110, legend: { show: false }, cursor: { show: false },
      scales: {
        x: { range: [from, until] },
        y: { range: (_, min, max) => (counted ? [0, Math.max(max, 2)] : [min - Math.max((max - min) / 10, 1), max + Math.max((max - min) / 10, 1)]) },
      },
      axes: [{ ...axis, space: 70, values: (_, at) => at.map((t) => clock.format(new Date(t * 1000))) }, { ...axis, size: 44, space: 28 }],
      bands: counted ? [] : [{ series: [2, 1], fill: `${ink}22` }],
      series: [{}, { stroke: "transparent", points: { show: false }, show: !counted }, { stroke: "transparent", points: { show: false }, show: !counted },
        { stroke: ink, width: 1.5, points: { show: counted || s.spans.length < 3, size: 5, fill: ink }, paths: counted ? () => null : undefined }],
    }, [x, lows, highs, means] as uPlot.AlignedData, at);
    const fit = new ResizeObserver(() => plot.setSize({ width: at.clientWidth, height: 110 }));
    fit.observe(at);
    return () => { fit.disconnect(); plot.destroy(); };
  }, [s, span, counted, from, until]);
  return (
    <figure>
      <figcaption>{titles[s.what]} <span className="mono">{label}</span></figcaption>
      <div ref={box} role="img" aria-label={`${titles[s.what]}: ${label}`} />
    </figure>
  );
}
