import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// Tests of pure functions run in Node.js, as one file.
const tests = { outDir: 'node_modules/.tests', emptyOutDir: true, ssr: true, rolldownOptions: { input: 'src/tests.ts' } }

export default defineConfig(({ mode }) => ({
  plugins: [react(), tailwindcss()],
  build: mode === 'test' ? tests : { outDir: 'dist/app', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1600 },
}))
