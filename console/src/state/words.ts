// What is said of an output, in people's words.

import { clock, day, live } from './live.svelte'
import type { Output } from './types'

const RANKS = ['hand', 'person', 'reflex', 'plan']

/** The claim that leads: highest rank, then the latest. */
export function leader(output: Output) {
  for (const rank of RANKS) {
    const found = output.claims.filter((claim) => claim.rank === rank)
    if (found.length) return found[found.length - 1]
  }
  return undefined
}

const who = (source: string) => {
  const key = source.match(/\((.+)\)$/)?.[1]
  return key === undefined ? source : key === live.key ? 'this key' : key
}

/** Who has it so, and for how long. */
function held(output: Output): string {
  const claim = leader(output)
  if (!claim) return output.allowed.on ? '' : 'at rest'
  const until = claim.ends ? ` until ${day(claim.ends)}` : claim.lifetime === 'takeover' ? ' until the plan takes over' : ''
  if (claim.rank === 'plan' || claim.rank === 'reflex') return `${claim.slot.slice(claim.slot.indexOf(':') + 1)}${until}`
  return `${claim.rank === 'hand' ? 'held' : 'set'} by ${who(claim.source)}${until}`
}

/** One line: how it came to be so, or what is in the way. */
export function aside(output: Output): string {
  switch (output.state) {
    case 'confirmed':
      return held(output)
    case 'running':
      return output.claims.find((claim) => claim.setting?.program)?.setting?.words ?? 'on its way'
    case 'driving':
      return `on its way to ${output.driven?.words ?? output.allowed.words}`
    case 'blocked':
      return `held back: ${output.reason}`
    case 'waiting':
      return `waits${output.expected ? ` until ${clock(output.expected)}` : ''}: ${output.reason}`
    case 'unreachable':
      return `${live.boards[output.board]?.label ?? output.board} does not answer`
    default:
      return `${output.state}: ${output.reason || 'it is tried again'}`
  }
}

export const is = (output: Output) => output.confirmed?.words ?? 'not known'
/** Something is in its way. */
export const odd = (output: Output) => !['confirmed', 'driving', 'running'].includes(output.state)
/** How full its tile is, from 0 to 100. */
export function fill(output: Output): number {
  const now = output.confirmed
  if (!now?.on) return 0
  return output.takes === 'level' && output.dimmable ? Math.max(6, now.level ?? 100) : 100
}
