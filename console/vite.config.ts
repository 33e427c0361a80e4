import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync, constants, gzipSync } from 'node:zlib';
import optimizeLocales from '@react-aria/optimize-locales-plugin';
import react from '@vitejs/plugin-react';
import { defineConfig, type Plugin } from 'vite';

const outDir = '../internal/httpapi/dist';

/** Puts a .gz and a .br next to each text asset, for the service to send. */
function precompress(): Plugin {
  return {
    name: 'precompress',
    apply: 'build',
    closeBundle() {
      const dir = join(import.meta.dirname, outDir, 'assets');
      for (const name of readdirSync(dir).filter((n) => /\.(js|css|svg)$/.test(n))) {
        const data = readFileSync(join(dir, name));
        writeFileSync(join(dir, `${name}.gz`), gzipSync(data, { level: 9 }));
        writeFileSync(join(dir, `${name}.br`), brotliCompressSync(data, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
      }
      writeFileSync(join(dir, '..', '.keep'), '');
    },
  };
}

export default defineConfig({
  plugins: [react(), { ...optimizeLocales.vite({ locales: ['en-GB', 'en-US'] }), enforce: 'pre' as const }, precompress()],
  html: { cspNonce: '__CSP_NONCE__' },
  build: { outDir, emptyOutDir: true, assetsInlineLimit: 0, modulePreload: { polyfill: false }, chunkSizeWarningLimit: 900 },
});
