// The pages of docs/ as files of HTML beside the console's scripts, and where they are: `import pages from 'virtual:docs'`.

import { readdirSync, readFileSync } from 'node:fs'
import { marked } from 'marked'
import type { Plugin } from 'vite'

const FOLDER = new URL('../docs/', import.meta.url)
const NAME = 'virtual:docs'

/** What a heading is called in an address, as in [rules.md#start-and-stop]. */
const anchor = (text: string) => text.toLowerCase().replace(/<[^>]+>|[^\w\s-]/g, '').trim().replace(/\s+/g, '-')

function page(text: string): string {
  const html = marked.parse(text, { async: false })
  return html
    .replace(/<h(\d)>(.*?)<\/h\1>/g, (_, level: string, words: string) => `<h${Math.min(6, Number(level) + 1)} data-at="${anchor(words)}">${words}</h${Math.min(6, Number(level) + 1)}>`)
    .replace(/<table>/g, '<div class="scroll" tabindex="0" role="group" aria-label="Table"><table>').replace(/<\/table>/g, '</table></div>')
    .replace(/<pre>/g, '<pre tabindex="0">')
    .replace(/<img [^>]*>/g, '')
}

export function docs(): Plugin {
  return {
    name: 'docs',
    resolveId: (id) => (id === NAME ? `\0${NAME}` : undefined),
    load(id) {
      if (id !== `\0${NAME}`) return undefined
      const files = readdirSync(FOLDER).filter((name) => name.endsWith('.md'))
      const lines = files.map((name) => {
        const reference = this.emitFile({ type: 'asset', name: `${name.slice(0, -3)}.html`, source: page(readFileSync(new URL(name, FOLDER), 'utf-8')) })
        return `${JSON.stringify(name.slice(0, -3))}: import.meta.ROLLUP_FILE_URL_${reference}`
      })
      return `export default {${lines.join(', ')}}`
    },
  }
}
