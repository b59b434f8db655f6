// The live state: follows the event stream. Whoever shows something imports `live`. Changes are put together.

import * as api from './api'
import { Problem } from './api'
import { heard, link, lost, serviceTime } from './link.svelte'
import { inZone, isoDay } from './say'
import { Shelf } from './shelf.svelte'
import type { Board, Ending, Input, Output, Pad, Picture, Site, Tune } from './types'

const outputs = new Shelf<Output>()
const inputs = new Shelf<Input>()
const boards = new Shelf<Board>()

class Live {
  phase = $state<'opening' | 'signed out' | 'live'>('opening')
  site = $state.raw<Site>()
  /** The name and the role of the key that the page is signed in with. */
  key = $state('')
  role = $state<'watch' | 'operate' | 'keep'>('watch')
  /** The outputs that this key may command; null: all. */
  only = $state.raw<string[] | null>(null)
  pads = $state.raw<Pad[]>([])
  tunes = $state.raw<Tune[]>([])
  scenes = $state.raw<string[]>([])
  groups = $state.raw<{ name: string; outputs: string[] }[]>([])
  /** Outputs that open with a passcode. */
  guarded = $state.raw<string[]>([])
  /** Counts the changes of the plan, so that who shows it looks again. */
  planned = $state(0)
  notes = $state<{ id: number; sentence: string; remedy: string; undo?: () => Promise<unknown> }[]>([])

  get outputs(): Record<string, Output> {
    return outputs.all
  }
  get inputs(): Record<string, Input> {
    return inputs.all
  }
  get boards(): Record<string, Board> {
    return boards.all
  }
  /** Counts the pictures of the whole site: names, labels and places change with one, and at no other time. */
  get pictures(): number {
    return outputs.filled + inputs.filled
  }
  get names(): string[] {
    return outputs.names
  }
  get keeps(): boolean {
    return this.role === 'keep'
  }
  /** The link to the service is lost: what is shown is old. */
  get lost(): boolean {
    return link.old
  }
  /** Whether this page may command an output now. */
  may(output: string): boolean {
    return !link.old && this.role !== 'watch' && (this.only === null || this.only.includes(output))
  }
}

export const live = new Live()

let notes = 0
let source: EventSource | undefined

export async function open(): Promise<void> {
  const token = location.hash.match(/^#sign-in=(.+)$/)?.[1]
  if (token) {
    history.replaceState(null, '', location.pathname)
    await attempt(() => api.signIn(token))
  }
  try {
    const who = await api.who()
    live.key = who.key
    live.role = who.role as Live['role']
    live.only = who.only
    ;[live.pads, live.tunes] = await Promise.all([api.pads(), api.tunes()])
    live.scenes = (await api.scenes()).map((scene) => scene.name)
    live.groups = await api.groups()
    live.guarded = (await api.rules()).filter((rule) => rule.kind === 'guard').map((rule) => rule.name)
  } catch (error) {
    if (error instanceof Problem && error.code !== 'no-service') {
      live.phase = 'signed out'
      return
    }
  }
  follow()
}

// --- what comes, put together -----------------------------------------------------------------------------------

/** Milliseconds between two pictures, by how many changes the last one had: a single change is shown with the next frame, a flood put together. */
const rests = (changes: number) => (changes > 3 ? 200 : 60)
const waiting = new Map<string, () => void>()
let asked = false
let taken = 0
let last = 0

function take(): void {
  asked = false
  taken = performance.now()
  const all = [...waiting.values()]
  last = all.length
  waiting.clear()
  for (const each of all) each()
}

/** Have something shown with the next frame; of one thing only the last. */
function soon(what: string, show: () => void): void {
  waiting.set(what, show)
  if (asked) return
  asked = true
  const rest = taken + rests(last) - performance.now()
  if (document.visibilityState !== 'visible') setTimeout(take, 200)
  else if (rest > 0) setTimeout(() => requestAnimationFrame(take), rest)
  else requestAnimationFrame(take)
}

function follow(): void {
  source = api.events()
  const on = <T>(kind: string, take: (data: T) => void) =>
    source!.addEventListener(kind, (event) => {
      const data = JSON.parse((event as MessageEvent).data)
      heard(kind === 'beat' ? data.at : undefined)
      take(data)
    })
  on<Picture>('afresh', (picture) => {
    waiting.clear()
    live.site = picture.site
    outputs.fill(picture.outputs)
    inputs.fill(picture.inputs)
    boards.fill(picture.boards)
    live.phase = 'live'
    settle()
  })
  on<object>('beat', settle)
  on<Output>('output', (output) => soon(`output ${output.name}`, () => outputs.put(output)))
  on<Input>('input', (input) => soon(`input ${input.name}`, () => inputs.put(input)))
  on<Board>('board', (board) => soon(`board ${board.name}`, () => boards.put(board)))
  on<Site>('site', (site) => soon('site', () => (live.site = site)))
  on<object>('plan', () => (live.planned += 1))
  on<Ending>('command', (ended) => {
    if (ended.ending === 'failed') note(`${ended.output}: ${ended.text}.`, '')
  })
  source.onopen = () => heard()
  source.onerror = async () => {
    lost()
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

// --- commands that nobody answered ----------------------------------------------------------------------------

/** What was asked and not answered: when, by the service's clock, of which output, and what it would be at. */
const unanswered: { what: string; at: number; output: string; words: string }[] = []

/** Once the link is back: what became of them. What has not arrived by then is not done any more. */
function settle(): void {
  for (const each of unanswered.splice(0)) {
    const output = live.outputs[each.output]
    const claims = output?.claims.filter((claim) => Date.parse(claim.made) >= each.at - 1000) ?? []
    const is = (words: string | undefined) => words === each.words || (words === '100 %' && each.words === output?.words[1])
    const arrived = claims.some((claim) => is(claim.setting?.words)) || (each.words === 'released' && !output?.claims.some((claim) => claim.rank === 'person'))
    note(arrived ? `${each.what}: it had arrived, and was done.` : `${each.what}: it had not arrived, and is not done.`, '')
  }
}

/** Remember that nobody knows what became of this. */
export function unknown(what: string, output: string, words: string): void {
  unanswered.push({ what, at: serviceTime() - 4000, output, words })
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

/** Tell the person something, for a while; `undo` takes it back. */
export function note(sentence: string, remedy: string, undo?: () => Promise<unknown>): void {
  live.notes = live.notes.filter((each) => !each.undo && each.sentence !== sentence)
  const id = ++notes
  live.notes.push({ id, sentence, remedy, undo })
  setTimeout(() => dismiss(id), 12_000)
}

export function dismiss(id: number): void {
  live.notes = live.notes.filter((each) => each.id !== id)
}

const byName = <T extends { name: string }>(things: T[]): Record<string, T> => Object.fromEntries(things.map((each) => [each.name, each]))

const form = (how: Intl.DateTimeFormatOptions) => inZone(live.site!.timezone, how)

/** The day of a time (milliseconds since 1970) where the site is, as in 2026-11-23. */
export const dayOf = (at: number) => isoDay(live.site?.timezone ?? 'UTC', at)

/** A time with its day, unless that is today, as the site's clock shows it. */
export function day(time: string | null | undefined): string {
  if (!time || !live.site) return ''
  const date = form({ day: 'numeric', month: 'short', year: 'numeric' })
  const then = new Date(time)
  return `${date.format(then) === date.format(new Date(serviceTime())) ? '' : `${date.format(then)}, `}${form({ hour: '2-digit', minute: '2-digit' }).format(then)}`
}

/** A time as the site's clock shows it. */
export function clock(time: string | number | null | undefined): string {
  if (!time || !live.site) return ''
  return form({ hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(new Date(time))
}
