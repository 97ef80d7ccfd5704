import { describe, expect, it } from "vitest";
import { call, Refusal } from "./api";

function answer(status: number, body: { data?: unknown; error?: unknown }) {
  return Promise.resolve({
    ...body,
    response: new Response(status === 204 ? null : "", { status, statusText: "Status" }),
  });
}

/** Returns what a call was refused with. */
async function refused(request: Parameters<typeof call>[0]): Promise<Refusal> {
  try {
    await call(request);
  } catch (error) {
    if (error instanceof Refusal) return error;
  }
  throw new Error("the call was not refused");
}

describe("call", () => {
  it("returns what the service answered", async () => {
    expect(await call(answer(200, { data: { name: "counter-desk" } }))).toEqual({ name: "counter-desk" });
    expect(await call(answer(204, {}))).toBeUndefined();
  });

  it("throws a refusal with its reasons", async () => {
    const problem = {
      title: "Conflict",
      detail: "no clearance",
      errors: [{ message: "testers: 0 of 2" }, { message: "soak" }],
    };
    const error = await refused(answer(409, { error: problem }));
    expect(error.status).toBe(409);
    expect(error.message).toBe("no clearance");
    expect(error.reasons).toEqual(["testers: 0 of 2", "soak"]);
  });

  it("makes do with what a proxy answers", async () => {
    const error = await refused(answer(502, { error: undefined }));
    expect(error.message).toBe("Status");
    expect(error.reasons).toEqual([]);
  });

  it("says so when the service does not answer", async () => {
    const error = await refused(Promise.reject(new TypeError("fetch failed")));
    expect(error.status).toBe(0);
    expect(error.message).toBe("The service does not answer.");
  });
});
