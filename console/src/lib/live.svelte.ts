// The live state: follows the event stream. Whoever shows something imports `live`.

import * as api from './api'
import { Problem } from './api'
import type { Board, Ending, Input, Output, Pad, Picture, Site, Tune } from './types'

/** How long the stream may be silent about its loss before the page says so. */
const PATIENCE = 700

export const live = $state({
  phase: 'opening' as 'opening' | 'signed out' | 'live',
  lost: false,
  site: undefined as Site | undefined,
  outputs: {} as Record<string, Output>,
  inputs: {} as Record<string, Input>,
  boards: {} as Record<string, Board>,
  keeps: false,
  /** The outputs that this key may command; null: all. */
  only: null as string[] | null,
  pads: [] as Pad[],
  tunes: [] as Tune[],
  /** Outputs that open with a passcode. */
  guarded: [] as string[],
  /** Counts the changes of the plan, so that who shows it looks again. */
  planned: 0,
  notes: [] as { id: number; sentence: string; remedy: string }[],
})

let notes = 0
let source: EventSource | undefined
let patience: ReturnType<typeof setTimeout> | undefined

export async function open(): Promise<void> {
  const token = location.hash.match(/^#sign-in=(.+)$/)?.[1]
  if (token) {
    history.replaceState(null, '', location.pathname)
    await attempt(() => api.signIn(token))
  }
  try {
    const who = await api.who()
    live.keeps = who.role === 'keep'
    live.only = who.only
    ;[live.pads, live.tunes] = await Promise.all([api.pads(), api.tunes()])
    live.guarded = (await api.rules()).filter((rule) => rule.kind === 'guard').map((rule) => rule.name)
  } catch (error) {
    if (error instanceof Problem && error.code !== 'no-service') {
      live.phase = 'signed out'
      return
    }
  }
  follow()
}

function follow(): void {
  source = api.events()
  const on = <T>(kind: string, take: (data: T) => void) =>
    source!.addEventListener(kind, (event) => take(JSON.parse((event as MessageEvent).data)))
  on<Picture>('afresh', (picture) => {
    live.site = picture.site
    live.outputs = byName(picture.outputs)
    live.inputs = byName(picture.inputs)
    live.boards = byName(picture.boards)
    live.phase = 'live'
  })
  on<Output>('output', (output) => (live.outputs[output.name] = output))
  on<Input>('input', (input) => (live.inputs[input.name] = input))
  on<Board>('board', (board) => (live.boards[board.name] = board))
  on<Site>('site', (site) => (live.site = site))
  on<object>('plan', () => (live.planned += 1))
  on<Ending>('command', (ended) => {
    if (ended.ending === 'failed') note(`${ended.output}: ${ended.text}.`, '')
  })
  source.onopen = () => {
    clearTimeout(patience)
    patience = undefined
    live.lost = false
  }
  source.onerror = async () => {
    patience ??= setTimeout(() => (live.lost = true), PATIENCE)
    if (source?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
    source = undefined
    try {
      await api.who()
    } catch (error) {
      if (error instanceof Problem && error.code === 'key') {
        live.phase = 'signed out'
        return
      }
    }
    setTimeout(follow, 1000)
  }
}

export async function signOut(): Promise<void> {
  await attempt(api.signOut)
  source?.close()
  live.phase = 'signed out'
}

/** Do something; what goes wrong is shown to the person. */
export async function attempt(action: () => Promise<unknown>): Promise<boolean> {
  try {
    await action()
    return true
  } catch (error) {
    if (error instanceof Problem) note(error.sentence, error.remedy)
    else throw error
    return false
  }
}

function note(sentence: string, remedy: string): void {
  if (live.notes.some((each) => each.sentence === sentence)) return
  const id = ++notes
  live.notes.push({ id, sentence, remedy })
  setTimeout(() => dismiss(id), 12_000)
}

export function dismiss(id: number): void {
  live.notes = live.notes.filter((each) => each.id !== id)
}

const byName = <T extends { name: string }>(things: T[]): Record<string, T> => Object.fromEntries(things.map((each) => [each.name, each]))

/** A time with its day, unless that is today, as the site's clock shows it. */
export function day(time: string | null | undefined): string {
  if (!time || !live.site) return ''
  const form = (how: Intl.DateTimeFormatOptions) => (at: Date) => new Intl.DateTimeFormat('en-GB', { timeZone: live.site!.timezone, ...how }).format(at)
  const date = form({ day: 'numeric', month: 'short', year: 'numeric' })
  const then = new Date(time)
  return `${date(then) === date(new Date()) ? '' : `${date(then)}, `}${form({ hour: '2-digit', minute: '2-digit' })(then)}`
}

/** A time as the site's clock shows it. */
export function clock(time: string | null | undefined): string {
  if (!time || !live.site) return ''
  return new Intl.DateTimeFormat('en-GB', { timeZone: live.site.timezone, hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(new Date(time))
}
