// Lints the API's description by the strictest rules there are, and ends with 1 if
// anything is wrong with it.
import { createConfig, formatProblems, getTotals, lint } from "@redocly/openapi-core";

const config = await createConfig({
  extends: ["recommended-strict"],
  rules: {
    "no-server-example.com": "error",
    "no-ambiguous-paths": "error",
    "no-unused-components": "error",
    "no-invalid-schema-examples": "error",
    "no-invalid-media-type-examples": "error",
    "no-required-schema-properties-undefined": "error",
  },
});
// These two take nothing that could be wrong.
const refuseNothing = ["#/paths/~1healthz/get/responses", "#/paths/~1openapi.yaml/get/responses"];
const problems = (await lint({ ref: process.argv[2], config })).filter(
  (one) => one.ruleId !== "operation-4xx-response" || !refuseNothing.includes(one.location[0].pointer),
);
const totals = getTotals(problems);
formatProblems(problems, { format: "codeframe", totals, version: "" });
process.exit(totals.errors + totals.warnings > 0 ? 1 : 0);
