import createClient from "openapi-fetch";
import type { components, paths } from "./contract.gen";
import { forgetProof, keepProof, proof } from "./proof";

export type ClientProgram = components["schemas"]["ClientProgram"];
export type Workspace = components["schemas"]["Workspace"];
export type Port = components["schemas"]["Port"];
export type WebAddress = components["schemas"]["WebAddress"];
export type Guest = components["schemas"]["Guest"];
export type Invitation = components["schemas"]["Invitation"];
export type Run = components["schemas"]["Run"];
export type Step = components["schemas"]["Step"];
export type LogLine = components["schemas"]["LogLine"];
export type Key = components["schemas"]["Key"];
export type Leftover = components["schemas"]["Leftover"];
export type Site = components["schemas"]["Site"];
export type HostTrust = components["schemas"]["HostTrust"];
export type TokenInfo = components["schemas"]["TokenInfo"];
export type SignIn = components["schemas"]["SignIn"];
export type Account = components["schemas"]["Account"];
export type Snapshot = components["schemas"]["Snapshot"];
export type Prepared = components["schemas"]["Prepared"];
export type Foreseen = components["schemas"]["Foreseen"];
export type Drift = components["schemas"]["Drift"];
export type PlanAnswer = components["schemas"]["PlanAnswer"];
export type Problem = components["schemas"]["Problem"];

const client = createClient<paths>({ baseUrl: "/api/v1" });
client.use({
  onRequest({ request }) {
    if (proof()) request.headers.set("Domicile-Proof", proof());
    return request;
  },
});

/** What the service answered instead of what was asked for. */
export class Trouble extends Error {
  status: number;
  code: string;
  detail?: string;
  remedy?: string;
  constructor(p: Problem) {
    super(p.title);
    this.status = p.status;
    this.code = p.code;
    this.detail = p.detail;
    this.remedy = p.remedy;
  }
}

/** The data of an answer, or a Trouble. */
export async function answer<T>(request: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let a;
  try {
    a = await request;
  } catch {
    throw new Trouble({ title: "The service does not answer", status: 503, code: "service-unreachable", remedy: "It goes on by itself when the service is back." });
  }
  if (a.error !== undefined || !a.response.ok) {
    const p = a.error as Partial<Problem> | undefined;
    throw new Trouble({ title: p?.title ?? `The service answered ${a.response.status}`, status: a.response.status, code: p?.code ?? "unknown", detail: p?.detail, remedy: p?.remedy });
  }
  return a.data as T;
}

const numbered = (id: number) => ({ params: { path: { id } } });
const named = (name: string) => ({ params: { path: { name } } });

export const api = {
  clients: () => answer(client.GET("/clients")),
  makeExample: () => answer(client.POST("/example")),
  setup: () => answer(client.GET("/setup")),
  makeFirstAccount: (body: components["schemas"]["FirstAccount"]) => answer(client.POST("/setup", { body })).then(keepProof),
  signIn: (body: components["schemas"]["Credentials"]) => answer(client.POST("/session", { body })).then(keepProof),
  signOut: () => answer(client.DELETE("/session")).finally(forgetProof),
  account: () => answer(client.GET("/account")),
  accounts: () => answer(client.GET("/accounts")),
  addAccount: (body: components["schemas"]["NewAccount"]) => answer(client.POST("/accounts", { body })),
  resetPassword: (name: string, password: string) => answer(client.PUT("/accounts/{name}/password", { ...named(name), body: { password } })),
  lockAccount: (name: string, locked: boolean) => answer(client.PUT("/accounts/{name}/locked", { ...named(name), body: { locked } })),
  removeAccount: (name: string) => answer(client.DELETE("/accounts/{name}", named(name))),
  signIns: () => answer(client.GET("/sign-ins")),
  setPassword: (current: string, password: string) => answer(client.PUT("/account/password", { body: { current, password } })),
  tokens: () => answer(client.GET("/tokens")),
  addToken: (label: string, days?: number) => answer(client.POST("/tokens", { body: { label, days } })),
  removeToken: (id: number) => answer(client.DELETE("/tokens/{id}", numbered(id))),
  keys: () => answer(client.GET("/keys")),
  addKey: (publicKey: string) => answer(client.POST("/keys", { body: { publicKey } })),
  removeKey: (id: number) => answer(client.DELETE("/keys/{id}", { params: { path: { id } } })),
  sites: () => answer(client.GET("/sites")),
  addSite: (name: string, address: string, through?: string) => answer(client.POST("/sites", { body: { name, address, through } })),
  addProvider: (name: string, address: string, key: string) => answer(client.POST("/providers", { body: { name, address, key } })),
  changeSite: (name: string, body: components["schemas"]["SiteSettings"]) => answer(client.PATCH("/sites/{name}/settings", { ...named(name), body })),
  examineSite: (name: string) => answer(client.POST("/sites/{name}/examination", named(name))),
  trustHost: (name: string) => answer(client.POST("/sites/{name}/trust", named(name))),
  drainSite: (name: string, drained: boolean) => answer(client.PUT("/sites/{name}/drained", { ...named(name), body: { drained } })),
  removeSite: (name: string) => answer(client.DELETE("/sites/{name}", named(name))),
  draft: (body: components["schemas"]["CheckRequest"]) => answer(client.POST("/draft", { body })),
  check: (body: components["schemas"]["CheckRequest"]) => answer(client.POST("/check", { body })),
  workspaces: () => answer(client.GET("/workspaces")),
  workspace: (name: string) => answer(client.GET("/workspaces/{name}", named(name))),
  ports: (name: string) => answer(client.GET("/workspaces/{name}/ports", named(name))),
  editors: () => answer(client.GET("/account/editors")),
  setEditor: (editor: string, link: string) => answer(client.PUT("/account/editors/{editor}", { params: { path: { editor } }, body: { link } })),
  removeEditor: (editor: string) => answer(client.DELETE("/account/editors/{editor}", { params: { path: { editor } } })),
  ways: (name: string) => answer(client.GET("/workspaces/{name}/ways", named(name))),
  webAddresses: (name: string) => answer(client.GET("/workspaces/{name}/web", named(name))),
  openWeb: (name: string, port: string) => answer(client.POST("/workspaces/{name}/web/{port}", { params: { path: { name, port } } })),
  shareWeb: (name: string, port: string, body: components["schemas"]["WebSharing"]) => answer(client.PUT("/workspaces/{name}/web/{port}", { params: { path: { name, port } }, body })),
  enterWeb: (label: string, to: string) => answer(client.POST("/web/{label}", { params: { path: { label }, query: { to } } })),
  guests: (name: string) => answer(client.GET("/workspaces/{name}/guests", named(name))),
  inviteGuest: (name: string, person: string, body: components["schemas"]["InviteGuest"]) => answer(client.PUT("/workspaces/{name}/guests/{person}", { params: { path: { name, person } }, body })),
  removeGuest: (name: string, person: string) => answer(client.DELETE("/workspaces/{name}/guests/{person}", { params: { path: { name, person } } })),
  invitations: () => answer(client.GET("/invitations")),
  leaveInvitation: (name: string) => answer(client.DELETE("/invitations/{name}", named(name))),
  terminals: (name: string) => answer(client.GET("/workspaces/{name}/terminals", named(name))),
  provision: (body: components["schemas"]["ProvisionRequest"]) => answer(client.POST("/workspaces", { body })),
  start: (name: string) => answer(client.POST("/workspaces/{name}/start", named(name))),
  stop: (name: string) => answer(client.POST("/workspaces/{name}/stop", named(name))),
  remove: (name: string) => answer(client.DELETE("/workspaces/{name}", named(name))),
  rebuild: (name: string, pull: boolean) => answer(client.POST("/workspaces/{name}/rebuild", { params: { path: { name }, query: { pull } } })),
  foresee: (name: string, pull: boolean) => answer(client.GET("/workspaces/{name}/rebuild", { params: { path: { name }, query: { pull } } })),
  stay: (name: string) => answer(client.POST("/workspaces/{name}/stay", { ...named(name), body: {} })),
  move: (name: string, site: string, size?: string, fromKept?: boolean) => answer(client.POST("/workspaces/{name}/move", { ...named(name), body: { site, size, fromKept } })),
  compare: (name: string, other: string) => answer(client.GET("/workspaces/{name}/comparison", { params: { path: { name }, query: { with: other } } })),
  drift: (name: string) => answer(client.GET("/workspaces/{name}/drift", named(name))),
  helpers: (name: string) => answer(client.GET("/workspaces/{name}/helpers", named(name))),
  addHelper: (name: string, body: components["schemas"]["NewHelper"]) => answer(client.POST("/workspaces/{name}/helpers", { ...named(name), body })),
  snapshots: () => answer(client.GET("/snapshots")),
  keepSnapshot: (name: string, note: string) => answer(client.POST("/workspaces/{name}/snapshots", { ...named(name), body: { note } })),
  returnTo: (name: string, snapshot: number) => answer(client.POST("/workspaces/{name}/return", { ...named(name), body: { snapshot } })),
  makeFromSnapshot: (id: number, name: string) => answer(client.POST("/snapshots/{id}/workspace", { ...numbered(id), body: { name } })),
  handSnapshot: (id: number, account: string) => answer(client.POST("/snapshots/{id}/hand", { ...numbered(id), body: { account } })),
  removeSnapshot: (id: number) => answer(client.DELETE("/snapshots/{id}", numbered(id))),
  prepared: () => answer(client.GET("/prepared")),
  prepare: (body: components["schemas"]["PrepareRequest"]) => answer(client.POST("/prepared", { body })),
  removePrepared: (name: string) => answer(client.DELETE("/prepared/{name}", named(name))),
  plan: (body: components["schemas"]["CheckRequest"]) => answer(client.POST("/plan", { body })),
  leftovers: () => answer(client.GET("/tidy")),
  tidy: () => answer(client.POST("/tidy")),
  setPersonal: (source: string) => answer(client.PUT("/account/personal", { body: { source } })),
  setAuthor: (body: components["schemas"]["Author"]) => answer(client.PUT("/account/author", { body })),
  secrets: () => answer(client.GET("/secrets")),
  setSecret: (name: string, source: string, value: string) => answer(client.PUT("/secrets/{name}", { ...named(name), body: { source, value } })),
  removeSecret: (name: string, source: string) => answer(client.DELETE("/secrets/{name}", { params: { path: { name }, query: { source } } })),
  gitHosts: () => answer(client.GET("/git-hosts")),
  setGitHost: (host: string, body: components["schemas"]["GitHostLogin"]) => answer(client.PUT("/git-hosts/{host}", { params: { path: { host } }, body })),
  removeGitHost: (host: string) => answer(client.DELETE("/git-hosts/{host}", { params: { path: { host } } })),
  registries: () => answer(client.GET("/registries")),
  setRegistry: (host: string, username: string, password: string) => answer(client.PUT("/registries/{host}", { params: { path: { host } }, body: { username, password } })),
  removeRegistry: (host: string) => answer(client.DELETE("/registries/{host}", { params: { path: { host } } })),
  prove: (name: string) => answer(client.POST("/workspaces/{name}/checks", named(name))),
  services: (name: string) => answer(client.GET("/workspaces/{name}/services", named(name))),
  serviceLog: (name: string, service: string) => answer(client.GET("/workspaces/{name}/services/{service}/log", { params: { path: { name, service } } })),
  restartService: (name: string, service: string) => answer(client.POST("/workspaces/{name}/services/{service}/restart", { params: { path: { name, service } } })),
  runs: (name: string) => answer(client.GET("/workspaces/{name}/runs", named(name))),
  log: (id: number, after: number) => answer(client.GET("/runs/{id}/log", { params: { path: { id }, query: { after, limit: 5000 } } })),
};
