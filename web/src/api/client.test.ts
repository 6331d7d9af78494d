import { expect, test } from "vitest";
import { serve } from "../test/served";
import { answer, api, Refused } from "./client";

test("a refusal is said in the service's words, with the field it is about", async () => {
  serve({
    "GET /me": {
      status: 422,
      body: { detail: "name: “ ” is none", errors: [{ location: "body.name", message: "a name" }] },
    },
  });
  const wrong = await answer(api.GET("/api/v1/me")).catch((e: unknown) => e);
  expect(wrong).toBeInstanceOf(Refused);
  expect(wrong).toMatchObject({ status: 422, message: "name: “ ” is none", field: "name" });
});

test("an answer is given as it came", async () => {
  serve({ "GET /me": { body: { name: "Ada" } } });
  expect(await answer(api.GET("/api/v1/me"))).toEqual({ name: "Ada" });
});

test("where a body has the wrong form the first that is wrong is said, not that something is", async () => {
  serve({
    "GET /me": {
      status: 422,
      body: {
        detail: "validation failed",
        errors: [{ location: "body.settings", message: "expected required property min_effect" }],
      },
    },
  });
  const wrong = await answer(api.GET("/api/v1/me")).catch((e: unknown) => e);
  expect(wrong).toMatchObject({
    message: "settings: expected required property min_effect",
    field: "settings",
  });
});
