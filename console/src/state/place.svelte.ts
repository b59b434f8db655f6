// Where one is: the address names the page. Five places, each with its pages; old addresses lead to the new ones.

export interface Leaf { at: string; name: string; keeps?: boolean }
export const PLACES: { at: string; name: string; leaves: Leaf[] }[] = [
  { at: 'now', name: 'Now', leaves: [] },
  { at: 'plan', name: 'Plan', leaves: [] },
  { at: 'journal', name: 'Journal', leaves: [{ at: 'rows', name: 'What happened' }, { at: 'records', name: 'Records' }] },
  {
    at: 'site', name: 'Site',
    leaves: [{ at: 'boards', name: 'Boards' }, { at: 'rules', name: 'Rules' }, { at: 'remotes', name: 'Remotes' }, { at: 'keys', name: 'Keys', keeps: true }, { at: 'file', name: 'File' }],
  },
  { at: 'bench', name: 'Bench', leaves: [{ at: 'signals', name: 'Signals' }, { at: 'light', name: 'Light and timers' }] },
]
const OLD: Record<string, string> = {
  records: 'journal/records', rules: 'site/rules', boards: 'site/boards', remotes: 'site/remotes', keys: 'site/keys', signals: 'bench/signals',
}

function read(): string[] {
  const parts = location.hash.slice(1).split('/').map(decodeURIComponent)
  const moved = OLD[parts[0]]
  if (moved) parts.splice(0, 1, ...moved.split('/'))
  return parts
}

export const place = $state({ parts: read() })
addEventListener('hashchange', () => (place.parts = read()))

/** The place, and the page in it. */
export const where = () => {
  const found = PLACES.find((each) => each.at === place.parts[0])
  const leaf = found?.leaves.find((each) => each.at === place.parts[1]) ?? found?.leaves[0]
  return { at: place.parts[0] === 'help' ? 'help' : (found?.at ?? 'now'), name: place.parts[0] === 'help' ? 'Help' : (found?.name ?? 'Now'), leaf, rest: place.parts.slice(leaf ? 2 : 1) }
}
export const go = (address: string) => (location.hash = address)
