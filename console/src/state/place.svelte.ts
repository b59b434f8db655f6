// Where one is: the address names the page. Five places, each with its pages; old addresses lead to the new ones.

import { panel } from './panel.svelte'

export interface Leaf { at: string; name: string; keeps?: boolean }
export const PLACES: { at: string; name: string; leaves: Leaf[] }[] = [
  { at: 'now', name: 'Now', leaves: [] },
  { at: 'plan', name: 'Plan', leaves: [] },
  { at: 'journal', name: 'Journal', leaves: [{ at: 'rows', name: 'What happened' }, { at: 'records', name: 'Records' }] },
  {
    at: 'site', name: 'Site',
    leaves: [{ at: 'boards', name: 'Boards' }, { at: 'rules', name: 'Rules' }, { at: 'wiring', name: 'Wiring' }, { at: 'remotes', name: 'Remotes' }, { at: 'sites', name: 'Sites' }, { at: 'keys', name: 'Keys', keeps: true }, { at: 'file', name: 'File' }, { at: 'changes', name: 'Changes', keeps: true }, { at: 'walk', name: 'Walk' }],
  },
  { at: 'bench', name: 'Bench', leaves: [{ at: 'signals', name: 'Signals' }, { at: 'light', name: 'Light and timers' }, { at: 'sums', name: 'Sums' }] },
]
const HELP = { at: 'help', name: 'Help', leaves: [] as Leaf[] }
const OLD: Record<string, string> = {
  records: 'journal/records', rules: 'site/rules', boards: 'site/boards', remotes: 'site/remotes', keys: 'site/keys', signals: 'bench/signals',
}

const ABOUT = ';about='

/** The parts of the address, and the output whose sheet lies on the page. */
function read(): { parts: string[]; about: string } {
  const [path, about = ''] = location.hash.slice(1).split(ABOUT)
  const parts = path.split('/').map(decodeURIComponent)
  const moved = OLD[parts[0]]
  if (moved) parts.splice(0, 1, ...moved.split('/'))
  return { parts, about: decodeURIComponent(about) }
}

export const place = $state(read())
addEventListener('hashchange', () => Object.assign(place, read()))

/** The place, and the page in it. */
export const where = () => {
  if (panel.locked) return { ...PLACES[0], leaf: undefined, rest: [] as string[] }
  const { at, name, leaves } = [...PLACES, HELP].find((each) => each.at === place.parts[0]) ?? PLACES[0]
  const leaf = leaves.find((each) => each.at === place.parts[1]) ?? leaves[0]
  return { at, name, leaf, rest: place.parts.slice(leaf ? 2 : 1) }
}
/** Lay an output's sheet on the page: the way back takes it off again. */
export function lay(name: string): void {
  laid = true
  location.hash = location.hash.slice(1).split(ABOUT)[0] + ABOUT + encodeURIComponent(name)
}
let laid = false
export function takeOff(): void {
  if (!place.about) return
  if (laid) history.back()
  else location.replace(location.hash.split(ABOUT)[0] || '#')
  laid = false
}
export const go = (address: string) => (location.hash = address)
