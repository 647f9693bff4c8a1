// Holds the API's description against the rules that are recommended for OpenAPI; an error fails, a warning is told.
import { createConfig, lint } from "@redocly/openapi-core";

const problems = await lint({ ref: "openapi.json", config: await createConfig({ extends: ["recommended"] }) });
for (const p of problems) {
  console.log(`${p.severity}: ${p.location[0]?.pointer ?? ""}: ${p.message} (${p.ruleId})`);
}
process.exit(problems.some((p) => p.severity === "error") ? 1 : 0);
