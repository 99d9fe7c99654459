// One file for pages without a bundler, which the service serves as /rovett.js.
import { build } from 'vite';

await build({
  root: import.meta.dirname,
  configFile: false,
  logLevel: 'error',
  build: { outDir: 'dist', emptyOutDir: false, minify: true, target: 'es2022', lib: { entry: 'src/single.ts', formats: ['es'], fileName: () => 'rovett.js' }, rolldownOptions: { output: { minify: true } } },
});
