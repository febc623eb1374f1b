import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  // Everything is asked for beside the page, so that the application may stand under any path.
  base: './',
  resolve: { alias: { '@': new URL('./src', import.meta.url).pathname } },
  build: { target: 'baseline-widely-available', chunkSizeWarningLimit: 600 },
  server: { proxy: { '/api': 'http://127.0.0.1:8700' } },
})
