import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: { outDir: 'dist', manifest: 'manifest.json', emptyOutDir: true, target: 'es2022', chunkSizeWarningLimit: 700 },
  server: { port: 5173, proxy: { '/api': { target: process.env.KESTITE_SERVER ?? 'http://127.0.0.1:8480' } } },
})
