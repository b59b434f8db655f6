// Only while this page is open: outputs that it keeps on, whichever of its sheets is shown, ended by every way of closing it.

import { SvelteSet } from 'svelte/reactivity'
import { keep } from './lease'

/** Well within the lease: a slow phone must not end it. */
const EVERY = 1500

export const stays = new SvelteSet<string>()

/** Keep it on from now on, or no longer; returns why it ended by itself, if it did. */
export async function flip(output: string): Promise<string> {
  if (stays.delete(output)) return ''
  stays.add(output)
  const why = await keep(output, '5 s', EVERY, () => stays.has(output))
  stays.delete(output)
  return why ? `It has ended. ${why}` : ''
}
