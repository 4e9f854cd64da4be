import vue from '@vitejs/plugin-vue';
import { defineConfig, type Plugin } from 'vite';

/** Lets the browser load the page while the first script, which only connects, is still on its way. */
const loadPageEarly: Plugin = {
  name: 'load page early',
  transformIndexHtml: {
    order: 'post',
    handler: (_html, { bundle }) =>
      Object.values(bundle ?? {})
        .filter((chunk) => chunk.type === 'chunk' && chunk.name === 'app')
        .map(({ fileName }) => ({
          tag: 'link',
          attrs: { rel: 'modulepreload', crossorigin: true, href: `/console/${fileName}` },
        })),
  },
};

export default defineConfig({
  root: import.meta.dirname,
  base: '/console/',
  plugins: [vue(), loadPageEarly],
  build: {
    target: 'es2023',
    chunkSizeWarningLimit: 1500,
    // One style sheet, which is there before the page is.
    cssCodeSplit: false,
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
