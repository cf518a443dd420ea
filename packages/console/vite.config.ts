import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  root: import.meta.dirname,
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1600, assetsInlineLimit: 0 },
  // npm run dev in this folder: the page is rebuilt at each change, calls go to a running service.
  server: { proxy: { '/manage': 'http://127.0.0.1:7450', '/app': 'http://127.0.0.1:7450' } },
});
