import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  base: '/console/',
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1500 },
  server: { proxy: Object.fromEntries(['/odata', '/manage', '/services'].map((path) => [path, 'http://127.0.0.1:8460'])) },
});
