// The look as a file, and one file for pages without a bundler, which the service serves as /rovett.js.
import { writeFileSync } from 'node:fs';
import { build } from 'vite';
import { look } from './dist/look-css.js';

writeFileSync(`${import.meta.dirname}/dist/look.css`, look.trimStart());

await build({
  root: import.meta.dirname,
  configFile: false,
  logLevel: 'error',
  build: { outDir: 'dist', emptyOutDir: false, minify: true, target: 'es2022', lib: { entry: 'src/single.ts', formats: ['es'], fileName: () => 'rovett.js' }, rolldownOptions: { output: { minify: true } } },
});
