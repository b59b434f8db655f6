// Every address of the service that the console uses. No component knows any.

import { clockThere } from './link.svelte'
import type { Edit } from './edits'
import type { DraftForm, Edition, EditionWhole, Offers, SitePreview, Code, Answer, Described, Key, MapRow, Pairing, Remote, Session, Sheet, SiteChanges, Sites, Sum, Supply, BoardWhole, CalendarLine, Circuit, Curve, Decided, Difference, Dry, Examined, Fit, JournalRow, Pad, PinForm, Plan, Preview, ProgramForm, Readings, Reckoned, Rehearsal, Rule, Signals, Timer, Tried, Tune, UsageDay, Wire, Why } from './types'

const OWN = '/api/v1'
/** Where the API is from here: a proxy may have put all of it below a path. */
const V1 = new URL(OWN.slice(1), document.baseURI).pathname

export class Problem extends Error {
  constructor(readonly code: string, readonly sentence: string, readonly remedy: string, readonly more: Record<string, unknown> = {}) {
    super(sentence)
  }
}

/** Do something; what was refused comes back in a sentence with its remedy, empty if nothing was. */
export async function refusal(action: () => Promise<unknown>): Promise<string> {
  try {
    await action()
    return ''
  } catch (error) {
    return said(error)
  }
}

/** What a refusal says, with what to do; any other error is thrown on. */
export function said(error: unknown): string {
  if (!(error instanceof Problem)) throw error
  return `${error.sentence} ${error.remedy}`.trim()
}

/** What keeps something moving is given up after this time (milliseconds): then the link is lost. */
const PROMPT = 1000
/** Any other command is given up after this time, and not done if it comes later than that. */
const DEADLINE = 3000
/** What only looks may take longer. */
const PATIENCE = 10_000

interface How {
  type?: string
  within?: number
  /** What makes something safe is done however late it comes. */
  safe?: boolean
}

async function call(method: string, path: string, body?: unknown, { type = 'application/json', within, safe = false }: How = {}): Promise<any> {
  const commands = method !== 'GET' && !looks.test(path)
  const time = within ?? (commands ? DEADLINE : PATIENCE)
  const headers: Record<string, string> = body === undefined ? {} : { 'Content-Type': type }
  const now = clockThere()
  if (commands && !safe && now !== undefined) headers['Cairnwind-Before'] = String(Math.floor(now + time))
  let response: Response
  try {
    response = await fetch(V1 + path, {
      method,
      signal: AbortSignal.timeout(time),
      keepalive: safe, // also while the page is being closed
      headers,
      body: body === undefined ? undefined : typeof body === 'string' ? body : JSON.stringify(body),
    })
  } catch {
    if (!commands) throw new Problem('no-service', 'The service does not answer.', 'Try again when the link is back.')
    throw new Problem('unanswered', 'The service has not answered: it is not known whether this arrived.', 'What became of it is told once the link is back.')
  }
  const form = await response.json().catch(() => ({}))
  if (!response.ok) throw new Problem(form.code ?? 'engine', form.detail ?? response.statusText, form.remedy ?? '', form)
  return form
}

/** Addresses that are asked with a body and change nothing. */
const looks = /^\/(questions|sums\/\w+|programs\/preview|plan\/rehearsals|draft\/rehearsals|site-file\/preview)$/

export const turn = (output: string, setting: string | number, more: Record<string, string> = {}) => call('POST', '/claims', { output, setting, ...more }, { safe: setting === 'off' || setting === 0 })
export const groups = (): Promise<{ name: string; outputs: string[] }[]> => call('GET', '/groups')
export const turnAll = (group: string, setting: 'on' | 'off') => call('POST', '/commands', { claims: [{ output: group, setting }] }, { safe: setting === 'off' })
export const releaseAll = (outputs: string[]) => Promise.all(outputs.map(release))
export const trace = (output: string, after?: number): Promise<Decided[]> => call('GET', `/outputs/${output}/trace${after === undefined ? '' : `?after=${after}`}`).then((form) => form.traces)
export const duty = (output: string, percent: number) => call('POST', '/claims', { output, setting: { duty: percent }, for: '5 min' })
export const curve = (output: string): Promise<Curve> => call('GET', `/outputs/${output}/curve`)
export const scenes = (): Promise<{ name: string; do: string[] }[]> => call('GET', '/scenes')
export const runScene = (scene: string) => call('POST', `/scenes/${encodeURIComponent(scene)}/run`, {})
export const release = (output: string) => call('DELETE', `/outputs/${output}/claim`, undefined, { safe: true })
export const stop = () => call('PUT', '/all-stop', {}, { safe: true })
export const resetStop = () => call('DELETE', '/all-stop')
export const why = (output: string, at = ''): Promise<Why> => call('GET', `/outputs/${output}/why${at ? `?at=${encodeURIComponent(at)}` : ''}`)
export const rules = (): Promise<Rule[]> => call('GET', '/rules').then((form) => form.rules)
export const ask = (question: string): Promise<Answer> => call('POST', '/questions', { question })
export const resetTrip = (trip: string, by: string) => call('POST', `/trips/${encodeURIComponent(trip)}/reset`, { by })
export const acknowledge = (alarm: string, by: string) => call('POST', `/alarms/${encodeURIComponent(alarm)}/acknowledgement`, { by })
export const resume = (reflex: string) => call('POST', `/reflexes/${encodeURIComponent(reflex)}/resume`, {})
export const openGuarded = (output: string, code: string) => call('POST', `/outputs/${output}/open`, { code })
export const run = (output: string, program: ProgramForm | string) => call('POST', '/claims', { output, program })
export const preview = (output: string, program: ProgramForm): Promise<Preview> => call('POST', '/programs/preview', { output, program })
export const tunes = (): Promise<Tune[]> => call('GET', '/tunes')
export const pads = (): Promise<Pad[]> => call('GET', '/pads')
/** Whether the link is there just now: asked before anything begins to move, so that no press waits in a dead network and moves it later. */
export const awake = () => call('GET', '/session', undefined, { within: PROMPT })
export const hold = (output: string, lease = '1 s', setting = 'on'): Promise<{ claim: { id: number } | null }> => call('POST', '/claims', { output, setting, lease }, { within: PROMPT })
export const renew = (claims: number[]) => call('PATCH', '/claims', { claims }, { within: PROMPT })
export const letGoClaim = (claim: number) => call('DELETE', `/claims/${claim}`, undefined, { safe: true })
export const keys = (): Promise<Key[]> => call('GET', '/keys').then((form) => form.keys)
export const newKey = (how: Record<string, unknown>): Promise<{ name: string; key: string }> => call('POST', '/keys', how)
export const revoke = (name: string) => call('DELETE', `/keys/${encodeURIComponent(name)}`)
export const pair = (how: Record<string, unknown>): Promise<Pairing> => call('POST', '/pairings', how)
export const sessions = (): Promise<Session[]> => call('GET', '/sessions').then((form) => form.sessions)
export const endSession = (id: string) => call('DELETE', `/sessions/${id}`)
export const remotes = (): Promise<Remote[]> => call('GET', '/remotes')
export const sites = (look = false): Promise<Sites> => call('GET', `/sites${look ? '?look=yes' : ''}`)
export const remoteMap = (name: string): Promise<MapRow[]> => call('GET', `/remotes/${encodeURIComponent(name)}/map`).then((form) => form.rows)
export const remoteWire = (name: string, after: number): Promise<Wire> => call('GET', `/remotes/${encodeURIComponent(name)}/traffic?after=${after}`)
export const openapi = (): Promise<Described> => call('GET', '/openapi.json')
export const steer = (pad: string, x: number, y: number, again: boolean): Promise<{ outcomes: string[] }> => call('PUT', `/pads/${pad}`, { x, y, again }, { within: PROMPT })
export const letGo = (pad: string) => call('DELETE', `/pads/${pad}`, undefined, { safe: true })
export const timers = (): Promise<Timer[]> => call('GET', '/timers')
export const supplies = (): Promise<Supply[]> => call('GET', '/supplies')
export const doctor = (): Promise<Examined[]> => call('GET', '/doctor', undefined, { within: 20_000 })
export const circuits = (): Promise<Sheet> => call('GET', '/circuits')
export const circuit = (name: string): Promise<Circuit> => call('GET', `/circuits/${encodeURIComponent(name)}`)
export const drawingOf = (name: string) => `${V1}/circuits/${encodeURIComponent(name)}/drawing`
export const sums = (): Promise<Sum[]> => call('GET', '/sums')
export const reckon = (sum: string, given: Record<string, string>): Promise<Reckoned> => call('POST', `/sums/${sum}`, given)
export const fit = (timer: string, hertz: string, duty: string, first: string): Promise<Fit> =>
  call('GET', `/timers/${encodeURIComponent(timer)}/fit?${new URLSearchParams({ hertz, duty, first })}`)
export const signals = (names: string[], seconds: number): Promise<Signals> =>
  call('GET', `/signals?${new URLSearchParams({ names: names.join(','), seconds: String(seconds) })}`)
export const signalsFile = (names: string[], seconds: number, form: 'vcd' | 'csv') =>
  `${V1}/signals.${form}?${new URLSearchParams({ names: names.join(','), seconds: String(seconds) })}`
const board = (name: string) => `/boards/${encodeURIComponent(name)}`
const trial = (name: string, pin: string) => `${board(name)}/pins/${encodeURIComponent(pin)}/trial`
export const boardWhole = (name: string): Promise<BoardWhole> => call('GET', board(name))
export const pins = (name: string): Promise<PinForm[]> => call('GET', `${board(name)}/pins`)
export const wire = (name: string, after: number): Promise<Wire> => call('GET', `${board(name)}/traffic?after=${after}`)
export const tryPin = (name: string, pin: string, how: Record<string, string>): Promise<Tried> => call('PUT', trial(name, pin), how)
export const endTry = (name: string, pin: string) => call('DELETE', trial(name, pin))
/** What a simulated keypad was told when these keys were pressed; or why they were not. */
export const press = (keypad: string, keys: string) =>
  call('PUT', `/remotes/${encodeURIComponent(keypad)}/simulated`, { keys }).then((told) => String(told.said), (error: Error) => error.message)
export const pretend = (input: string, how: Record<string, string>) => call('PUT', `/inputs/${input}/simulated`, how)
export const dryPhrase = (phrase: string): Promise<Dry> => call('POST', '/phrases', { phrase, dry: true })
export const say = (phrase: string): Promise<{ phrase: string; outcome: string; reason: string; ending?: { ending: string } }> => call('POST', '/phrases', { phrase, wait: '1 s' })
export const plan = (): Promise<Plan> => call('GET', '/plan')
export const rehearse = (from: string, to: string, change: { put?: Record<string, string>; drop?: string } = {}): Promise<{ plan: Rehearsal; differences?: Difference[] }> =>
  rehearsed(() => call('POST', '/plan/rehearsals', { from, to, ...change }, { within: 30_000 }))

/** One rehearsal at a time is run for a key: those of this page wait for each other, and for those of another. */
let rehearsing: Promise<unknown> = Promise.resolve()
function rehearsed<T>(ask: () => Promise<T>): Promise<T> {
  const again = async (left: number): Promise<T> => {
    try {
      return await ask()
    } catch (error) {
      if (!(error instanceof Problem) || !['rate', 'busy'].includes(error.code) || !left) throw error
      await new Promise((done) => setTimeout(done, 300))
      return again(left - 1)
    }
  }
  const mine = rehearsing.then(() => again(20))
  rehearsing = mine.catch(() => undefined)
  return mine
}
const schedule = (name: string) => `/plan/schedules/${encodeURIComponent(name)}`
export const addSchedule = (facts: Record<string, string>) => call('POST', '/plan/schedules', facts)
export const putSchedule = ({ name, ...facts }: Record<string, string>) => call('PUT', schedule(name), facts)
export const changeSchedule = (name: string, how: Record<string, boolean>) => call('PATCH', schedule(name), how)
export const dropSchedule = (name: string) => call('DELETE', schedule(name))
export const extendTimer = (id: number, longer: string) => call('PATCH', `/plan/timers/${id}`, { longer })
export const cancelTimer = (id: number) => call('DELETE', `/plan/timers/${id}`)
export const calendarLink = (): Promise<{ link: string }> => call('POST', '/plan/calendar-links', {})
export const takeCalendar = (text: string): Promise<{ events: CalendarLine[] }> => call('POST', '/plan/calendar', text, { type: 'text/calendar', within: PATIENCE })
type JournalPage = { rows: JournalRow[]; next: string | null }
export const journal = (which: Record<string, string>): Promise<JournalPage> =>
  call('GET', `/journal?${new URLSearchParams({ limit: '100', ...Object.fromEntries(Object.entries(which).filter(([, value]) => value)) })}`)
export const journalAt = (next: string): Promise<JournalPage> => call('GET', next.slice(OWN.length))
export const usage = (): Promise<UsageDay[]> => call('GET', '/records/usage').then((form) => form.days)
export const readings = (name: string, from: string, to: string): Promise<Readings> =>
  call('GET', `/records/readings/${encodeURIComponent(name)}?${new URLSearchParams({ from, to })}`)
export const signIn = (token: string) => call('POST', '/session', { token })
export const signOut = () => call('DELETE', '/session')
export const who = (): Promise<{ key: string; role: string; only: string[] | null }> => call('GET', '/session')
export const events = () => new EventSource(`${V1}/events`)
export const unlock = (output: string, tag: string) => call('DELETE', `/outputs/${output}/lockouts/${encodeURIComponent(tag)}`)
export const lock = (output: string, tag: string, reason: string) => call('PUT', `/outputs/${output}/lockouts/${encodeURIComponent(tag)}`, { reason })
export const note = (about: string, text: string) => call('POST', '/notes', { about, text })
export const attest = (output: string, by: string) => call('POST', `/outputs/${output}/attestation`, { by })
export const codes = (output: string): Promise<Code[]> => call('GET', `/outputs/${output}/codes`).then((form) => form.codes)
export const giveCode = (output: string, owner: string, code: string, once: boolean) => call('PUT', `/outputs/${output}/codes/${encodeURIComponent(owner)}`, { code, ...(once ? { once } : {}) })
export const takeCode = (output: string, owner: string) => call('DELETE', `/outputs/${output}/codes/${encodeURIComponent(owner)}`)
export const signInLink = (): Promise<{ link: string }> => call('POST', '/sign-in-links', {})
export const reload = (): Promise<{ outcome: string; reason: string }> => call('POST', '/site-file/reload', {}, { within: 30_000 })
export const siteChanges = (): Promise<SiteChanges> => call('GET', '/site-file/changes')
const CHANGES = { within: 30_000 }
export const offers = (what: string, kind = '', name = ''): Promise<Offers> => call('GET', `/site-file/offers/${what}?${new URLSearchParams({ kind, name })}`)
export const previewSite = (changes: Edit[]): Promise<SitePreview> => call('POST', '/site-file/preview', { changes })
export const changeSite = (changes: Edit[], reason = '') => call('POST', '/site-file/edits', { changes, reason }, CHANGES)
export const draft = (): Promise<DraftForm> => call('GET', '/draft')
export const intoDraft = (changes: Edit[]) => call('POST', '/draft/changes', { changes })
export const takeFromDraft = (number: number) => call('DELETE', `/draft/changes/${number}`)
export const dropDraft = () => call('DELETE', '/draft')
export const applyDraft = (reason: string, edition: number) => call('POST', '/draft/application', { reason, edition }, CHANGES)
export const rehearseDraft = (from: string, to: string): Promise<Difference[]> => rehearsed(() => call('POST', '/draft/rehearsals', { from, to }, CHANGES)).then((form) => form.differences)
export const editions = (): Promise<Edition[]> => call('GET', '/editions')
export const edition = (number: number): Promise<EditionWhole> => call('GET', `/editions/${number}`)
export const goBack = (number: number) => call('POST', `/editions/${number}/application`, {}, CHANGES)
export const witness = (about: string, by: string, saw: string, text: string) => call('POST', '/walks', { about, by, saw, text })
export const siteFile = (): Promise<string> => call('GET', '/plan/kit').then((form) => form.site_file)
