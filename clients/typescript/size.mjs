// What a page pays for what it imports: built as a page would, minified, gzipped.
import { gzipSync } from 'node:zlib';
import { build } from 'vite';

const core = 8192;
const budgets = [
  ["import { connect } from 'rovett'", "export { connect } from '/src/index.ts'", core],
  ["import { connectShared } from 'rovett/shared'", "export { connectShared } from '/src/shared.ts'", core + 3328],
  ["import 'rovett/bell'", "import '/src/elements/bell.ts'", core + 7168],
  ["import 'rovett/bell' and 'rovett/look'", "import '/src/elements/bell.ts'; import '/src/elements/look.ts'", core + 10240],
  ["import 'rovett/toasts'", "import '/src/elements/toasts.ts'", core + 4096],
  ["import 'rovett/topic'", "import '/src/elements/topic.ts'", core + 4096],
  ["import { RovettProvider, useUnreadTotal } from 'rovett/react'", "export { RovettProvider, useUnreadTotal } from '/src/react/index.ts'", core + 1024],
  ["all of 'rovett/react'", "export * from '/src/react/index.ts'", core + 8192],
  ["all of 'rovett/react/choices'", "export * from '/src/react/choices.tsx'", core + 5120],
  ["all of 'rovett/vue'", "export * from '/src/vue/index.ts'", core + 10240],
];
let failed = false;
for (const [what, code, most] of budgets) {
  const entry = { name: 'entry', enforce: 'pre', resolveId: (id) => (id.endsWith('/entry') || id === 'entry' ? 'entry' : id.startsWith('/src/') ? import.meta.dirname + id : null), load: (id) => (id === 'entry' ? code : null) };
  const result = await build({
    root: import.meta.dirname,
    configFile: false,
    logLevel: 'error',
    plugins: [entry],
    build: { write: false, minify: true, lib: { entry: 'entry', formats: ['es'] }, target: 'es2022', rollupOptions: { external: /^(react|vue)/ } },
  });
  const size = gzipSync([result].flat()[0].output[0].code, { level: 9 }).length;
  console.log(`${what}: ${size} bytes of ${most}`);
  failed ||= size > most;
}
process.exit(failed ? 1 : 0);
