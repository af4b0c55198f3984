import createClient from "openapi-fetch";
import type { components, paths } from "./contract.gen";

export type Workspace = components["schemas"]["Workspace"];
export type Run = components["schemas"]["Run"];
export type Step = components["schemas"]["Step"];
export type LogLine = components["schemas"]["LogLine"];
export type Key = components["schemas"]["Key"];
export type Site = components["schemas"]["Site"];
export type Account = components["schemas"]["Account"];
export type Problem = components["schemas"]["Problem"];

const client = createClient<paths>({ baseUrl: "/api/v1" });

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

const named = (name: string) => ({ params: { path: { name } } });

export const api = {
  setup: () => answer(client.GET("/setup")),
  makeFirstAccount: (body: components["schemas"]["FirstAccount"]) => answer(client.POST("/setup", { body })),
  signIn: (body: components["schemas"]["Credentials"]) => answer(client.POST("/session", { body })),
  signOut: () => answer(client.DELETE("/session")),
  account: () => answer(client.GET("/account")),
  accounts: () => answer(client.GET("/accounts")),
  addAccount: (body: components["schemas"]["NewAccount"]) => answer(client.POST("/accounts", { body })),
  keys: () => answer(client.GET("/keys")),
  addKey: (publicKey: string) => answer(client.POST("/keys", { body: { publicKey } })),
  removeKey: (id: number) => answer(client.DELETE("/keys/{id}", { params: { path: { id } } })),
  sites: () => answer(client.GET("/sites")),
  draft: (body: components["schemas"]["CheckRequest"]) => answer(client.POST("/draft", { body })),
  check: (body: components["schemas"]["CheckRequest"]) => answer(client.POST("/check", { body })),
  workspaces: () => answer(client.GET("/workspaces")),
  workspace: (name: string) => answer(client.GET("/workspaces/{name}", named(name))),
  provision: (body: components["schemas"]["ProvisionRequest"]) => answer(client.POST("/workspaces", { body })),
  start: (name: string) => answer(client.POST("/workspaces/{name}/start", named(name))),
  stop: (name: string) => answer(client.POST("/workspaces/{name}/stop", named(name))),
  remove: (name: string) => answer(client.DELETE("/workspaces/{name}", named(name))),
  rebuild: (name: string) => answer(client.POST("/workspaces/{name}/rebuild", named(name))),
  prove: (name: string) => answer(client.POST("/workspaces/{name}/checks", named(name))),
  services: (name: string) => answer(client.GET("/workspaces/{name}/services", named(name))),
  serviceLog: (name: string, service: string) => answer(client.GET("/workspaces/{name}/services/{service}/log", { params: { path: { name, service } } })),
  restartService: (name: string, service: string) => answer(client.POST("/workspaces/{name}/services/{service}/restart", { params: { path: { name, service } } })),
  runs: (name: string) => answer(client.GET("/workspaces/{name}/runs", named(name))),
  log: (id: number, after: number) => answer(client.GET("/runs/{id}/log", { params: { path: { id }, query: { after, limit: 5000 } } })),
};
