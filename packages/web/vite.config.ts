import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // The chart library is one large chunk, loaded with the view that needs it.
  build: { chunkSizeWarningLimit: 700 },
  server: { proxy: { '/api': 'http://127.0.0.1:4600' } },
})
