import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  build: {
    assetsInlineLimit: 0, // the content security policy allows files of our own only
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 700,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7420' } },
  test: { environment: 'happy-dom' },
})
