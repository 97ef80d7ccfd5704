import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type Account = Schemas["Account"];
export type Image = Schemas["Image"];
export type Version = Schemas["Version"];
export type SoftwareEntry = Schemas["SoftwareEntry"];
export type SoftwareFacts = Schemas["SoftwareFacts"];
export type SoftwareOrigin = Schemas["SoftwareOrigin"];
export type SoftwareHolder = Schemas["SoftwareHolder"];
export type SoftwareChange = Schemas["SoftwareChange"];
export type SoftwareGroup = Schemas["SoftwareGroup"];
export type Comparison = Schemas["Comparison"];
export type ComparisonLine = Schemas["ComparisonLine"];
export type Trial = Schemas["Trial"];
export type Pool = Schemas["Pool"];
export type Host = Schemas["Host"];
export type Machine = Schemas["Machine"];
export type FlawFound = Schemas["FlawFound"];
export type FlawGap = Schemas["FlawGap"];
export type PoolReadiness = Schemas["PoolReadiness"];
export type KeptVersion = Schemas["KeptVersion"];
export type RetentionRule = Schemas["Retention"];
export type FlawList = Schemas["FlawList"];
export type ComparisonFlaws = Schemas["ComparisonFlaws"];
export type Delivery = Schemas["Delivery"];
export type Transfer = Schemas["Transfer"];
export type SiteDeliveries = Schemas["Site"]["deliveries"];
export type Site = Schemas["Site"];
export type Hypervisor = Schemas["Hypervisor"];
export type Schedule = Schemas["Schedule"];
export type ScheduleMode = Schemas["ScheduleMode"];
export type ScheduleRun = Schemas["ScheduleRun"];
export type Offer = Schemas["Offer"];
export type Base = Schemas["Base"];
export type BaseState = Schemas["BaseState"];
export type BuildMachine = Schemas["BuildMachine"];
export type ProofResult = Schemas["ProofResult"];
export type Proof = Schemas["Proof"];
export type SealFinding = Schemas["SealFinding"];
export type Build = Schemas["Build"];
export type WholeBuild = Schemas["WholeBuild"];
export type WholeSheet = Schemas["WholeSheet"];
export type SheetChecked = Schemas["SheetChecked"];
export type SheetSource = Schemas["SheetSource"];
export type SheetParameter = Schemas["SheetParameter"];
export type BuildSize = Schemas["BuildSize"];
export type BuildStep = Schemas["BuildStep"];
export type LogLine = Schemas["LogLine"];
export type Session = Schemas["Session"];
export type Rollover = Schemas["Rollover"];
export type RolloverHost = Schemas["RolloverHost"];
export type TrailEntry = Schemas["TrailEntry"];
export type Matter = Schemas["Matter"];
export type Options = Schemas["Options"];
export type MadeToken = Schemas["MadeToken"];
export type PreviewRequest = Schemas["PreviewRequest"];

/** What the service answered when it would not do something. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly reasons: string[],
    /** The name of the problem type, such as "not-signed-in"; empty if the answer has none. */
    readonly type = "",
  ) {
    super(detail);
  }
}

export const api = createClient<paths>({
  baseUrl: globalThis.location?.origin,
  fetch: (request) => fetch(request),
});

let csrf = "";

/** Keeps the token that goes with what changes something. */
export function setCsrf(token: string) {
  csrf = token;
}

api.use({
  onRequest({ request }) {
    if (request.method !== "GET") {
      request.headers.set("X-CSRF-Token", csrf);
      // A click that is sent twice, by an impatient finger or a bad line, does the thing once.
      // A preview does nothing, and its answer is not to be kept; nor is what is said of a sheet.
      if (request.method === "POST" && !/\/(previews|sheets\/check)$/.test(request.url))
        request.headers.set("Idempotency-Key", crypto.randomUUID());
    }
    return request;
  },
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Reads every page of a list, so that nothing is left away without a word. */
export async function everyPage<T>(
  page: (cursor: string | undefined) => Promise<{ items: T[]; next: string }>,
): Promise<{ items: T[] }> {
  const items: T[] = [];
  let cursor: string | undefined;
  do {
    const p = await page(cursor);
    items.push(...p.items);
    cursor = p.next || undefined;
  } while (cursor);
  return { items };
}

/** Returns the answer of a call, or throws the Refusal. */
export async function call<T>(request: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await request;
  } catch {
    throw new Refusal(0, "The service does not answer.", []);
  }
  if (!answer.response.ok) {
    const problem = (answer.error ?? {}) as {
      type?: string;
      detail?: string;
      title?: string;
      errors?: { message?: string }[];
    };
    const reasons = (problem.errors ?? []).map((e) => e.message ?? "");
    throw new Refusal(
      answer.response.status,
      problem.detail || problem.title || answer.response.statusText,
      reasons,
      problem.type?.split("/problems/")[1],
    );
  }
  return answer.data as T;
}
