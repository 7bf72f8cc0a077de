import react from '@vitejs/plugin-react';
import { resolve } from 'node:path';
import { defineConfig } from 'vite';

// Staff get the application, visitors get a page that shares no framework with it; and that page once more as staff
// see it within theirs.
export default defineConfig({
  plugins: [react()],
  // While developing (./quay dev) everything but the application itself is the server's.
  server: {
    proxy: Object.fromEntries(
      ['/api', '/s', '/h', '/reach/probe'].map((path) => [
        path,
        { target: process.env['QUAY_DEV_SERVER'] ?? 'http://127.0.0.1:4180' },
      ]),
    ),
  },
  css: { preprocessorOptions: { scss: { quietDeps: true, loadPaths: [resolve(import.meta.dirname, 'src/styles')] } } },
  // Fonts are asked for beside the style sheet that names them, also under a path prefix.
  experimental: { renderBuiltUrl: (_, { hostType }) => (hostType === 'css' ? { relative: true } : undefined) },
  build: {
    outDir: 'dist',
    emptyOutDir: true,
    assetsInlineLimit: 0,
    // The dictionaries that judge a typed password; they come only when one is typed.
    chunkSizeWarningLimit: 2500,
    rollupOptions: {
      input: {
        index: resolve(import.meta.dirname, 'index.html'),
        visitor: resolve(import.meta.dirname, 'visitor.html'),
        intake: resolve(import.meta.dirname, 'intake.html'),
        'as-visitor': resolve(import.meta.dirname, 'as-visitor.html'),
      },
    },
  },
});
