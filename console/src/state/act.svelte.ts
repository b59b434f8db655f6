// Commands that a person gives: refused where the finger was, undone by one touch, told of when nobody answered.

import * as api from './api'
import { Problem } from './api'
import { use } from './kept.svelte'
import { note, unknown } from './live.svelte'
import type { Output } from './types'

/** Do something to an output; returns why it was refused, in a sentence, empty if it was not. */
export async function act(output: Output, words: string, action: () => Promise<unknown>): Promise<string> {
  const before = output.claims.find((claim) => claim.rank === 'person')
  try {
    await action()
  } catch (error) {
    if (!(error instanceof Problem)) throw error
    if (error.code === 'unanswered') unknown(`${output.label} ${words}`, output.name, words)
    return `${error.sentence} ${error.remedy}`.trim()
  }
  use(output.name)
  const setting = before?.setting
  const back = setting && !setting.program ? () => api.turn(output.name, setting.words) : () => api.release(output.name)
  note(`${output.label}: ${words}`, '', back)
  return ''
}

export const turn = (output: Output, setting: string | number, more: Record<string, string> = {}) =>
  act(output, typeof setting === 'number' ? `${setting} %` : setting === 'on' || setting === 'off' ? output.words[Number(setting === 'on')] : setting, () => api.turn(output.name, setting, more))
export const release = (output: Output) => act(output, 'released', () => api.release(output.name))
