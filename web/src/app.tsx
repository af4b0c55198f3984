import { lazy, Suspense } from "react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Route, Routes, useLocation } from "react-router";
import { api, Trouble } from "./api/client";
import { useEvents } from "./api/events";
import { Frame } from "./frame/frame";
import { Loading, TroubleNote } from "./frame/trouble";
import { SignIn } from "./signin/signin";
import { GuestPage } from "./guest/guest";
import { Clients } from "./clients/clients";
import { Workspaces } from "./workspaces/workspaces";
import { WorkspacePage } from "./workspace/workspace";
import { New } from "./new/new";
import { Open } from "./open/open";
import { Sites } from "./sites/sites";
import { Team } from "./team/team";
import { Welcome } from "./welcome/welcome";
import { You } from "./you/you";

// These are large and load when they are opened.
const TerminalPage = lazy(() => import("./terminal/terminal"));
const ScreenPage = lazy(() => import("./screen/screen"));

export function App() {
  const queries = useQueryClient();
  const { pathname } = useLocation();
  const account = useQuery({ queryKey: ["account"], queryFn: api.account, staleTime: 60_000 });
  if (account.isPending) return <Loading what="the console" />;
  if (account.error) {
    const signedOut = account.error instanceof Trouble && account.error.status === 401;
    if (signedOut && pathname === "/clients")
      return (
        <main className="mx-auto max-w-3xl p-6">
          <p className="mb-6">
            <Link to="/" className="link">
              Sign in
            </Link>
          </p>
          <Clients />
        </main>
      );
    if (signedOut) return <SignIn onSignedIn={() => void queries.resetQueries()} />;
    return (
      <div className="mx-auto max-w-xl p-8">
        <TroubleNote error={account.error} />
      </div>
    );
  }
  const signOut = async () => {
    await api.signOut();
    await queries.resetQueries();
  };
  return (
    <Frame account={account.data} onSignOut={() => void signOut()}>
      <Inside />
    </Frame>
  );
}

function NoPage() {
  return (
    <p>
      <title>No such page – Domicile</title>
      There is no such page. The address may have a slip in it.
    </p>
  );
}

function Inside() {
  useEvents();
  return (
    <Suspense fallback={<Loading what="the page" />}>
      <Routes>
        <Route path="/" element={<Workspaces />} />
        <Route path="/new" element={<New />} />
        <Route path="/sites" element={<Sites />} />
        <Route path="/you" element={<You />} />
        <Route path="/welcome" element={<Welcome />} />
        <Route path="/clients" element={<Clients />} />
        <Route path="/team" element={<Team />} />
        <Route path="/workspaces/:name" element={<WorkspacePage />} />
        <Route path="/guest/:name" element={<GuestPage />} />
        <Route path="/workspaces/:name/terminal" element={<TerminalPage />} />
        <Route path="/workspaces/:name/screen" element={<ScreenPage />} />
        <Route path="/open/:label" element={<Open />} />
        <Route path="*" element={<NoPage />} />
      </Routes>
    </Suspense>
  );
}
