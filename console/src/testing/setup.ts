import { configure } from "@testing-library/react";

// What jsdom does not have and modules ask for when they are loaded, before any test runs.
window.matchMedia ??= (query: string) =>
  ({ matches: false, media: query, addEventListener() {}, removeEventListener() {} }) as unknown as MediaQueryList;

// A busy machine is no failure.
configure({ asyncUtilTimeout: 15_000 });
