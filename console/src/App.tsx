import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, Route, Routes } from "react-router";
import { api, got, Refusal } from "./api/client";
import { useLive } from "./api/live";
import { Arrivals } from "./pages/Arrivals";
import { Batches } from "./pages/batch/Batches";
import { Compare } from "./pages/batch/Compare";
import { BatchPage } from "./pages/batch/BatchPage";
import { Changes } from "./pages/Changes";
import { Countries } from "./pages/Countries";
import { Dialects } from "./pages/Dialects";
import { Events } from "./pages/Events";
import { GatewayPage } from "./pages/GatewayPage";
import { Gateways } from "./pages/Gateways";
import { MessagePage } from "./pages/MessagePage";
import { Messages } from "./pages/Messages";
import { Money } from "./pages/Money";
import { OptOuts } from "./pages/OptOuts";
import { PasscodePage } from "./pages/PasscodePage";
import { Passcodes } from "./pages/Passcodes";
import { Prices } from "./pages/Prices";
import { Send } from "./pages/Send";
import { Replies } from "./pages/Replies";
import { RecipientList, Recipients } from "./pages/Recipients";
import { Senders } from "./pages/Senders";
import { SignIn } from "./pages/SignIn";
import { StatementPage } from "./pages/StatementPage";
import { Statements } from "./pages/Statements";
import { Strays } from "./pages/Strays";
import { TemplatePage, Templates } from "./pages/Templates";
import { Today } from "./pages/Today";
import { Icon } from "./parts/Icon";
import { Mark } from "./parts/Mark";
import { Quarantine } from "./parts/Quarantine";
import { Refused } from "./parts/Refused";

function useTheme() {
  const [chosen, choose] = useState(localStorage.getItem("theme"));
  const [system, setSystem] = useState(matchMedia("(prefers-color-scheme: dark)").matches);
  useEffect(() => {
    const query = matchMedia("(prefers-color-scheme: dark)");
    const changed = () => setSystem(query.matches);
    query.addEventListener("change", changed);
    return () => query.removeEventListener("change", changed);
  }, []);
  const dark = chosen ? chosen === "dark" : system;
  useEffect(() => {
    document.documentElement.dataset.bsTheme = dark ? "dark" : "light";
  }, [dark]);
  return { dark, toggle: () => { const next = dark ? "light" : "dark"; localStorage.setItem("theme", next); choose(next); } };
}

function Nothing() {
  return (
    <div className="page">
      <h1>There is nothing here</h1>
      <NavLink to="/messages">All messages</NavLink>
    </div>
  );
}

function Rooms({ phone }: { phone: string }) {
  useLive();
  const theme = useTheme();
  const queries = useQueryClient();
  const signOut = async () => {
    await got(api.DELETE("/v1/session"));
    queries.removeQueries({ predicate: (q) => q.queryKey[0] !== "session" });
    await queries.resetQueries({ queryKey: ["session"] });
  };
  return (
    <div className="frame">
      <nav className="rail" aria-label="Rooms">
        <div className="brand"><Mark />Calm Pigeon</div>
        <NavLink to="/" end><Icon name="today" />Today</NavLink>
        <NavLink to="/messages"><Icon name="messages" />Messages</NavLink>
        <NavLink to="/send"><Icon name="send" /><span>Send<span className="roomy"> one</span></span></NavLink>
        <NavLink to="/replies"><Icon name="replies" />Replies</NavLink>
        <NavLink to="/batches"><Icon name="batches" />Batches</NavLink>
        <NavLink to="/passcodes"><Icon name="passcodes" />Passcodes</NavLink>
        <NavLink to="/statements"><Icon name="statements" />Statements</NavLink>
        <NavLink to="/events"><Icon name="events" />Events</NavLink>
        <NavLink to="/gateways"><Icon name="gateways" />Gateways</NavLink>
        <NavLink to="/templates"><Icon name="templates" />Templates</NavLink>
        <NavLink to="/senders"><Icon name="senders" />Senders</NavLink>
        <NavLink to="/countries"><Icon name="countries" />Countries</NavLink>
        <NavLink to="/prices"><Icon name="prices" />Prices</NavLink>
        <NavLink to="/money"><Icon name="money" />Money</NavLink>
        <div className="foot">
          <NavLink to="/changes"><Icon name="changes" />Changes</NavLink>
          {phone && <a href={phone} target="_blank" rel="noreferrer"><Icon name="phone" />Phone</a>}
          <button onClick={theme.toggle}><Icon name={theme.dark ? "light" : "dark"} />{theme.dark ? "Light" : "Dark"}</button>
          <button onClick={signOut}><Icon name="signOut" />Sign out</button>
        </div>
      </nav>
      <main>
        <Quarantine />
        <Routes>
          <Route path="/" element={<Today />} />
          <Route path="/arrivals" element={<Arrivals />} />
          <Route path="/money" element={<Money />} />
          <Route path="/passcodes" element={<Passcodes />} />
          <Route path="/passcodes/:id" element={<PasscodePage />} />
          <Route path="/messages" element={<Messages />} />
          <Route path="/send" element={<Send phone={phone} />} />
          <Route path="/messages/:id" element={<MessagePage />} />
          <Route path="/batches" element={<Batches />} />
          <Route path="/batches/compare" element={<Compare />} />
          <Route path="/batches/:id" element={<BatchPage />} />
          <Route path="/replies" element={<Replies />} />
          <Route path="/recipients" element={<Recipients />} />
          <Route path="/recipients/:list" element={<RecipientList />} />
          <Route path="/templates" element={<Templates />} />
          <Route path="/templates/:name" element={<TemplatePage />} />
          <Route path="/events" element={<Events />} />
          <Route path="/gateways" element={<Gateways />} />
          <Route path="/gateways/:name" element={<GatewayPage />} />
          <Route path="/dialects" element={<Dialects />} />
          <Route path="/senders" element={<Senders />} />
          <Route path="/optouts" element={<OptOuts />} />
          <Route path="/strays" element={<Strays />} />
          <Route path="/statements" element={<Statements />} />
          <Route path="/statements/:id" element={<StatementPage />} />
          <Route path="/countries" element={<Countries />} />
          <Route path="/prices" element={<Prices />} />
          <Route path="/changes" element={<Changes />} />
          <Route path="*" element={<Nothing />} />
        </Routes>
      </main>
    </div>
  );
}

/** A link with #key=… signs in, and the key leaves the address at once. */
async function session() {
  const key = new URLSearchParams(location.hash.slice(1)).get("key");
  if (key) {
    history.replaceState(null, "", location.pathname + location.search);
    return got(api.POST("/v1/session", { body: { key } }));
  }
  return got(api.GET("/v1/session"));
}

export function App() {
  const { data, error, isPending } = useQuery({
    queryKey: ["session"],
    queryFn: session,
    staleTime: Infinity,
    // Asking again would take the sign-in page away under whoever types a key.
    refetchInterval: false,
    refetchOnWindowFocus: false,
    retry: (n, e) => !(e instanceof Refusal && e.problem.status === 401) && n < 20,
  });
  if (data) return <Rooms phone={data.phone_url} />;
  if (isPending) return null;
  if (error instanceof Refusal && error.problem.status === 401) return <SignIn />;
  return <main className="door"><Refused error={error} /></main>;
}
