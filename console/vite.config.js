import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  base: '/console/',
  build: {
    outDir: 'dist',
    emptyOutDir: true,
    assetsInlineLimit: 0, // the page's policy takes no data: addresses
    chunkSizeWarningLimit: 2000,
    rollupOptions: { input: ['index.html', 'reference.html'] },
  },
});
