import { defineConfig } from "vitest/config";

// Tests of components say at their head that they want a document.
export default defineConfig({ test: { setupFiles: ["src/testing/setup.ts"] } });
