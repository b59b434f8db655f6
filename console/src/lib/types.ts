// The API's forms, as far as the console shows them.

export interface Setting { level: number; on: boolean; words: string; colour?: string; hertz?: number; drive?: number; program?: string }
export interface Output {
  name: string; label: string; place: string; kind: string; pin: string; line: number; board: string
  dimmable: boolean; takes: 'level' | 'colour' | 'tone' | 'drive'; state: 'confirmed' | 'driving' | 'running' | 'retrying' | 'blocked' | 'waiting' | 'unreachable' | 'fault'
  wanted: Setting; allowed: Setting; driven: Setting | null; confirmed: Setting | null
  by: string; gate: string; reason: string; claims: { id: number; rank: string; setting: Setting }[]
}
export interface Input {
  name: string; label: string; place: string; kind: string; state: string; active: boolean | null; since: string | null
  board: string; words: [string, string]; raw: boolean | number | null; edges: number; volts: number | null
}
export interface Board { name: string; label: string; link: string; up: boolean; reason: string; since: string | null }
export interface BoardWhole extends Board { confirms: string; rounds_a_second: number; errors: number; simulated: boolean; facts: Record<string, string | number> }
export interface Reading { high: number | null; raw: number | null; full: number | null; volts: number | null; count: number | null; edge: string | null; period_ns: number | null }
export interface Trial { mode: string; text: string; by: string; reading: Reading }
export interface Tried { pin: string; line: number; output: string | null; trial: Trial }
export interface PinForm {
  pin: string | null; position: string | null; connector: string | null; number: number | null; line: number | null
  title: string; role: string; can: string[] | null; timer: string; power_on: string; user: string; holder: string
  high: number | null; volts: number | null; bears: number | null; trial: Trial | null
}
export interface Frame { number: number; at: string; way: 'sent' | 'got' | 'lost'; raw: string; text: string; plain: boolean }
export interface Wire { frames: Frame[]; rounds_a_second: number; errors: number }
export interface Site {
  name: string; timezone: string; recording: boolean; trouble: string; clock: string
  all_stop: { stopped: boolean; since?: string; by?: string; reason?: string }
  trips: Trip[]; alarms: Alarm[]; suspended: { reflex: string; why: string }[]
}
export interface Trip { name: string; since: string; cause: string; outputs: string[] }
export interface Alarm { name: string; severity: string; cause: string; still_so: boolean; since: string; acknowledged_by: string | null }
export interface Rule { name: string; kind: string; text: string; outputs: string[]; state: string; left?: { text: string; share: number } }
export interface Answer { question: string; so: boolean | null; instead: string[] }
export interface Picture { site: Site; outputs: Output[]; inputs: Input[]; boards: Board[] }
export interface Why { output: string; sentence: string; remedy: string; steps: { stage: string; text: string }[] }
export interface Ending { command: string; output: string | null; ending: string; text: string }
export interface Preview {
  text: string; seconds: number | null; round_seconds: number; shown_seconds: number; then: string; writes: number; counts: number
  ends_at: Setting; curve: [number, Setting, number][]
}
export interface Pad {
  name: string; label: string; left: string | null; right: string | null; outputs: string[]; zones: Record<string, string>
  stick: [string, string] | null; lease_ms: number
}
export interface Key {
  name: string; role: string; only: string[]; days: string[]; from: string | null; to: string | null; until: string | null; used: string | null; used_from: string | null
}
export interface Session { id: string; key: string; device: string; made: string; used: string; this: boolean }
export interface Pairing { link: string; ends: string; rows: string[] }
export interface Remote { name: string; kind: string; up: boolean; trouble: string; key: string; peers: string[]; errors: number; facts: Record<string, unknown> }
export interface MapRow { address: string; name: string; what: string }
export interface Shape {
  $ref?: string; type?: string | string[]; enum?: unknown[]; items?: Shape; anyOf?: Shape[]; oneOf?: Shape[]; properties?: Record<string, Shape>
  required?: string[]; examples?: unknown[]
}
export interface Operation {
  summary: string; tags: string[]; 'x-role': string; parameters: { name: string; in: string; schema: Shape; example?: unknown }[]
  requestBody?: { content: Record<string, { schema: Shape }> }; responses: Record<string, { content?: Record<string, { schema?: Shape }> }>
}
export interface Described { paths: Record<string, Record<string, Operation>> }
export interface Tune { name: string; text: string; seconds: number }
export interface Timer { name: string; title: string; lowest_hertz: number; highest_hertz: number; channels: Record<string, string[]> }
export interface FitRow {
  prescaler: number; period: number; compare: number; hertz: number; error_percent: number; duty: number; duty_error_percent: number
  steps: number; period_ns: number; in_reach: boolean
}
export interface Fit { timer: Timer; best: FitRow; candidates: FitRow[]; beyond: string; wave: { seconds: number; edges: [number, boolean][] } }
export type SignalKind = 'digital' | 'pwm' | 'drive' | 'tone' | 'analogue'
export interface Signal {
  name: string; of: string; label: string; kind: SignalKind; unit: string; words: [string, string]
  times?: number[]; values?: (number | null)[]; hertz?: number[] | null
}
export interface Signals { from: number; to: number; kept_seconds: number; signals: Signal[] }
export interface Dry {
  phrase: string; begins: string | null; every_seconds: number | null
  steps: { after_seconds: number; text: string; orders: { output: string | null; label: string; act: string; setting: Setting | null; lasting: string; now: string }[] }[]
}
export interface Schedule {
  name: string; do: string; from: string; to?: string; for?: string; repeat: string; starts?: string; origin: 'site file' | 'database'
  enabled: boolean; when: string; outputs: string[]; running_until: string | null; next: [string, string][]; skipped: string[]
}
export interface Timed { id: number; kind: 'timer' | 'series' | 'claim'; output: string | null; text: string; due: string; by: string; every_seconds: number | null }
export interface Plan { schedules: Schedule[]; timers: Timed[]; scenes: string[] }
export interface Bar { output: string; start: string; end: string; words: string; brief: string; on: boolean; level: number; by: string; why: string }
export interface Rehearsal {
  from: string; to: string; bars: Bar[]; collisions: { at: string; output: string; text: string }[]; held_back: { at: string; output: string; text: string }[]
  totals: { output: string; label: string; hours_on: number; switchings: number; kilowatt_hours: number | null }[]
}
export interface Difference { was: Bar | null; would_be: Bar | null }
export interface CalendarLine { title: string; outcome: string; why: string }
export interface JournalRow { sequence: number; at: string; kind: string; subject: string | null; text: string; source: string | null }
export interface UsageDay { output: string; day: string; hours_on: number; switchings: number; kilowatt_hours: number | null }
export interface Readings { name: string; unit: string; step_seconds: number; from: string; to: string; rows: [number, number, number, number][] }
export type ProgramForm = Record<string, string | number>
