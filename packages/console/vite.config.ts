import vue from '@vitejs/plugin-vue';
import { defineConfig } from 'vite';

export default defineConfig({
  root: import.meta.dirname,
  base: '/console/',
  plugins: [vue()],
  build: {
    target: 'es2023',
    chunkSizeWarningLimit: 1500,
    reportCompressedSize: false,
    rollupOptions: {
      output: {
        // Names without hashes of the path they were built at, so that two builds of the same sources are the same.
        manualChunks: (id) =>
          /node_modules\/(@codemirror\/(?!merge)|@lezer|codemirror)/.test(id) ? 'editor' : undefined,
      },
    },
  },
  logLevel: 'warn',
});
