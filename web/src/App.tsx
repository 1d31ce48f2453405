import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { NavLink, Route, Routes, useLocation } from "react-router";
import { api, must } from "./api";
import { Find } from "./Find";
import { useLive } from "./live";
import { Activity } from "./pages/Activity";
import { AttentionPage } from "./pages/Attention";
import { Bench } from "./pages/Bench";
import { DevicePage } from "./pages/Device";
import { DialectPage, Dialects } from "./pages/Dialects";
import { DriftPage } from "./pages/Drift";
import { Devices } from "./pages/Devices";
import { Hubs } from "./pages/Hubs";
import { Images } from "./pages/Images";
import { InventoryPage } from "./pages/Inventory";
import { Messages } from "./pages/Messages";
import { NamesPage } from "./pages/Names";
import { Beside, SignOffPage } from "./pages/SignOff";
import { RolloutPage, RolloutsPage } from "./pages/Rollouts";
import { SignIn } from "./pages/SignIn";
import { Trouble } from "./parts";

export function App() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => must(api.GET("/api/v1/session")) });
  if (me.isPending) return <main aria-busy="true"><p className="quiet">Opening …</p></main>;
  if (me.error) return <main><h1>Fado</h1><Trouble problem={me.error} /></main>;
  if (!me.data.name) return <SignIn first={me.data.first} />;
  return <Inside name={me.data.name} />;
}

const pages = [
  { to: "/", name: "Attention" },
  { to: "/devices", name: "Devices" },
  { to: "/bench", name: "Bench" },
  { to: "/sign-off", name: "Sign-off" },
  { to: "/firmware", name: "Firmware" },
  { to: "/rollouts", name: "Rollouts" },
  { to: "/drift", name: "Drift" },
  { to: "/messages", name: "Messages" },
  { to: "/hubs", name: "Hubs" },
  { to: "/dialects", name: "Dialects" },
  { to: "/activity", name: "Activity" },
];

function Inside({ name }: { name: string }) {
  useLive();
  const client = useQueryClient();
  const [site, setSite] = useState(() => localStorage.getItem("fado-site") ?? "");
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => must(api.GET("/api/v1/sites")) });
  const { pathname } = useLocation();
  useEffect(() => {
    const page = pages.findLast((p) => pathname === p.to || (p.to !== "/" && pathname.startsWith(p.to)));
    document.title = page ? `${page.name} · Fado` : "Fado";
  }, [pathname]);
  const choose = (key: string) => {
    localStorage.setItem("fado-site", key);
    setSite(key);
  };
  const signOut = async () => {
    await must(api.DELETE("/api/v1/session"));
    client.clear();
    await client.invalidateQueries({ queryKey: ["me"] });
    window.location.assign("/");
  };
  return (
    <>
      <a className="skip" href="#content">To the content</a>
      <header className="top">
        <div className="bar">
          <span className="word">Fado</span>
          <Form.Select size="sm" aria-label="Site to show" value={site} onChange={(e) => choose(e.target.value)}>
            <option value="">All sites</option>
            {sites.data?.map((s) => <option key={s.id} value={s.key}>{s.name}</option>)}
          </Form.Select>
          <nav aria-label="Pages">{pages.map((p) => <NavLink key={p.to} to={p.to} end={p.to === "/"}>{p.name}</NavLink>)}</nav>
          <Find />
          <div className="end">
            <Theme />
            <Button size="sm" variant="outline-secondary" onClick={() => void signOut()}>Sign out<span className="d-none d-sm-inline"> {name}</span></Button>
          </div>
        </div>
      </header>
      <main id="content" tabIndex={-1}>
        <Silence />
        <Routes>
          <Route path="/sign-off" element={<SignOffPage site={site} />} />
          <Route path="/devices/:id/beside" element={<Beside />} />
          <Route path="/" element={<AttentionPage site={site} />} />
          <Route path="/devices" element={<Devices site={site} />} />
          <Route path="/devices/:id" element={<DevicePage />} />
          <Route path="/bench" element={<Bench site={site} />} />
          <Route path="/firmware" element={<Images site={site} />} />
          <Route path="/rollouts" element={<RolloutsPage site={site} />} />
          <Route path="/rollouts/:id" element={<RolloutPage />} />
          <Route path="/drift" element={<DriftPage site={site} />} />
          <Route path="/messages" element={<Messages site={site} />} />
          <Route path="/hubs" element={<Hubs />} />
          <Route path="/dialects" element={<Dialects />} />
          <Route path="/dialects/:name" element={<DialectPage />} />
          <Route path="/sites/:site/names" element={<NamesPage />} />
          <Route path="/sites/:site/inventory" element={<InventoryPage />} />
          <Route path="/activity" element={<Activity site={site} />} />
          <Route path="*" element={<><h1>There is no such page</h1><p>The address is misspelt, or the thing was removed. Use the search field above.</p></>} />
        </Routes>
      </main>
    </>
  );
}

/** Silence says that the service is gone, so that nobody trusts an old page. */
function Silence() {
  const alive = useQuery({
    queryKey: ["alive"], refetchInterval: 3_000, retry: false,
    queryFn: async () => (await fetch("/healthz", { cache: "no-store" }).catch(() => null))?.ok ?? false,
  });
  if (alive.data !== false) return null;
  return <div className="trouble" role="alert"><strong>Fado does not answer.</strong>What is shown may be old. The service is stopped, or this device left its network; the page comes back by itself.</div>;
}

function Theme() {
  const [dark, setDark] = useState(() => document.documentElement.dataset.bsTheme === "dark");
  const turn = () => {
    const next = dark ? "light" : "dark";
    document.documentElement.dataset.bsTheme = next;
    localStorage.setItem("fado-theme", next);
    setDark(!dark);
  };
  return <Button size="sm" variant="outline-secondary" onClick={turn}>{dark ? "Light" : "Dark"}</Button>;
}
