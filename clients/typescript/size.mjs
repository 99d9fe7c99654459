// What an application pays for the client: built as a page would, minified, gzipped.
import { gzipSync } from 'node:zlib';
import { build } from 'vite';

const budgets = { 'src/index.ts': 8192, 'src/shared.ts': 8192 + 3072, 'src/react.tsx': 8192 + 3072 };
let failed = false;
for (const [entry, most] of Object.entries(budgets)) {
  const result = await build({
    root: import.meta.dirname,
    configFile: false,
    logLevel: 'error',
    build: { write: false, minify: true, lib: { entry, formats: ['es'] }, target: 'es2022', rollupOptions: { external: /^react/ } },
  });
  const { code } = [result].flat()[0].output[0];
  const size = gzipSync(code, { level: 9 }).length;
  console.log(`${entry}: ${size} bytes of ${most}`);
  failed ||= size > most;
}
process.exit(failed ? 1 : 0);
