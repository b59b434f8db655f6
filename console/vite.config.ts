import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: { outDir: '../src/cairnwind/service/console', emptyOutDir: true, assetsInlineLimit: 0, rolldownOptions: { checks: { pluginTimings: false } } },
})
