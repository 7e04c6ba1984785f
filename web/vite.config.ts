import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue({
      // A line break between two elements is a space, as in HTML and as prettier takes it.
      template: { compilerOptions: { whitespace: 'preserve' } },
    }), tailwindcss()],
  build: { outDir: '../internal/service/console/dist', emptyOutDir: true, sourcemap: false, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:7800' } },
})
