import createClient from "openapi-fetch";
import type { components, paths } from "./api.gen";

type Schemas = components["schemas"];
export type Device = Schemas["Device"];
export type Task = Schemas["Task"];
export type Site = Schemas["Site"];
export type Sighting = Schemas["Sighting"];
export type Image = Schemas["Image"];
export type Setting = Schemas["Setting"];
export type Attention = Schemas["Attention"];
export type Problem = Schemas["ProblemDetails"];
export type Model = Schemas["Model"];
export type Preview = Schemas["Preview"];
export type Fault = Schemas["Fault"];
export type CheckResult = Schemas["Result"];
export type SignOff = Schemas["SignOff"];
export type Trialed = Schemas["Trialed"];
export type Hub = Schemas["Hub"];
export type HealthSeries = Schemas["HealthSeries"];
export type SaidPage = Schemas["SaidPage"];
export type HubThing = Schemas["HubThing"];
export type Found = Schemas["Found"];
export type Rollout = Schemas["Rollout"];
export type RolloutPlan = Schemas["RolloutPlan"];
export type RolloutUnit = Schemas["RolloutUnit"];
export type RolloutWave = Schemas["RolloutWave"];

export const api = createClient<paths>({ baseUrl: "" });

/** Failed is an answer that was not a success, with the service's own words. */
export class Failed extends Error {
  problem: Problem;
  constructor(problem: Problem) {
    super(problem.title);
    this.problem = problem;
  }
}

const silent: Problem = {
  type: "urn:fado:problem:unavailable",
  title: "Fado does not answer.",
  status: 0,
  detail: "The service is stopped, or this device left its network.",
  next: "See that the service runs; this page comes back by itself.",
};

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** must waits for an answer and throws what the service said when it failed. */
export async function must<T>(answer: Promise<Answer<T>>): Promise<T> {
  let a: Answer<T>;
  try {
    a = await answer;
  } catch {
    throw new Failed(silent);
  }
  if (a.error !== undefined || !a.response.ok) {
    const p = a.error as Problem | undefined;
    throw new Failed(p?.title ? p : { ...silent, title: `Fado answered with status ${a.response.status}.` });
  }
  return a.data as T;
}
