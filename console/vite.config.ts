import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

/** The pages that are not the first one, and what only they are made of: one file, which is packed better than twenty small ones. */
const DESK = /src\/(pages\/(?!Now|Signals)\w+|parts\/(EditForm|Findings|Lines|Lanes|ScheduleForm|TimeField|Header|Machine|PinTile|TryPin|Supplies|Chart|ByEye|WireLog|PanelSetup|QrCode))\.svelte/

/** What several pages share, and is little: one file of it is packed better than nine. */
const SMALL = /src\/(parts\/(Keypad|Leave|Blink|Circuit)\.svelte|state\/)/

export default defineConfig({
  base: './', // wherever a proxy has put it
  resolve: { alias: { '@zag-js/focus-trap': fileURLToPath(new URL('./src/state/nofocustrap.ts', import.meta.url)) } },
  plugins: [tailwindcss(), svelte({ compilerOptions: { cssHash: ({ hash, css }) => `s${hash(css).slice(-4)}` } })],
  build: {
    outDir: '../src/cairnwind/service/console', emptyOutDir: true, assetsInlineLimit: 0, license: { fileName: 'licences.md' },
    rolldownOptions: { checks: { pluginTimings: false }, output: { codeSplitting: { includeDependenciesRecursively: false, groups: [{ name: 'desk', test: DESK }, { name: 'small', test: SMALL }] } } },
  },
})
