// What a trace shows of a signal in a stretch of time. Times in seconds before 'to', values in the trace's unit.

import type { Signal, Signals } from './types'

/** More edges than this in sight, and PWM is shown by its duty. */
export const MOST_EDGES = 2400

export interface Shown { xs: number[]; ys: (number | null)[]; unit: string; low: number; high: number; wave: boolean }

/** The rows of a signal as seconds before the end. */
const seconds = (data: Signals, signal: Signal) => (signal.times ?? []).map((time) => (time - data.to) / 1e6)

/** How many edges PWM has between two times. */
function edges(signal: Signal, xs: number[], from: number, to: number): number {
  let count = 0
  for (let row = 0; row < xs.length; row++) {
    const [start, end] = [Math.max(from, xs[row]), Math.min(to, xs[row + 1] ?? 0)]
    const value = signal.values![row] ?? 0
    if (end > start) count += 1 + (value > 0 && value < 100 ? 2 * (end - start) * (signal.hertz?.[row] ?? 0) : 0)
  }
  return count
}

/** The square wave itself, each row in the phase it began with. */
function square(signal: Signal, rows: number[], from: number, to: number): [number[], number[]] {
  const [xs, ys]: [number[], number[]] = [[], []]
  const put = (x: number, y: number) => (xs.push(x), ys.push(y))
  for (let row = 0; row < rows.length; row++) {
    const [start, end] = [rows[row], rows[row + 1] ?? 0]
    if (end <= from || start >= to) continue
    const value = signal.values![row] ?? 0
    const hertz = signal.hertz?.[row] ?? 0
    if (!hertz || value <= 0 || value >= 100) {
      put(Math.max(start, from), value >= 50 ? 100 : 0)
      continue
    }
    const period = 1 / hertz
    for (let n = Math.max(0, Math.floor((from - start) / period)); start + n * period < Math.min(end, to); n++) {
      put(start + n * period, 100)
      const fall = start + (n + value / 100) * period
      if (fall < end) put(fall, 0)
    }
  }
  return [xs, ys]
}

/** Points to draw between two times, the last one carried on to the right edge. */
export function shown(data: Signals, signal: Signal, from: number, to: number): Shown {
  const rows = seconds(data, signal)
  const values = signal.values ?? []
  let unit = signal.unit
  let [xs, ys]: [number[], (number | null)[]] = [rows, values]
  let [low, high] = [0, 100]
  let wave = false
  if (signal.kind === 'pwm' || signal.kind === 'tone') {
    if (edges(signal, rows, from, to) <= MOST_EDGES && signal.hertz && to - from < 2) {
      ;[xs, ys] = square(signal, rows, from, to)
      wave = true
      unit = 'pin'
    } else if (signal.kind === 'tone') {
      ys = values.map((value, row) => (value ? (signal.hertz?.[row] ?? 0) : 0))
      high = Math.max(1000, ...(ys as number[])) * 1.1
    }
  } else if (signal.kind === 'digital') {
    ys = values.map((value) => (value === null ? null : value ? 1 : 0))
    high = 1
  } else if (signal.kind === 'drive') {
    low = -100
  } else {
    const known = values.filter((value) => value !== null)
    ;[low, high] = known.length ? [Math.min(...known), Math.max(...known)] : [0, 1]
    const room = (high - low || Math.abs(high) || 1) * 0.1
    ;[low, high] = [low - room, high + room]
  }
  if (!xs.length) [xs, ys] = [[from], [signal.kind === 'analogue' ? null : 0]]
  if (xs[0] < from) xs = [Math.max(xs[0], from - (to - from)), ...xs.slice(1)]
  return { xs: [...xs, 0], ys: [...ys, ys.at(-1) ?? null], unit, low, high, wave }
}

/** The row in force at a time, for a read-out. */
export function at(data: Signals, signal: Signal, x: number): string {
  const rows = seconds(data, signal)
  let row = rows.length - 1
  while (row > 0 && rows[row] > x) row--
  const value = signal.values?.[row]
  if (value === undefined) return signal.kind === 'analogue' ? 'unknown' : 'off'
  if (value === null) return 'unknown'
  const hertz = signal.hertz?.[row] ?? 0
  const digits = (number: number) => Number(number.toPrecision(5)).toString()
  if (signal.kind === 'digital') return signal.words[value ? 1 : 0]
  if (signal.kind === 'tone') return value ? `${digits(hertz)} Hz, duty ${digits(value)} %` : 'silent'
  if (signal.kind === 'pwm' && hertz) return `${digits(value)} % of ${digits(1000 / hertz)} ms (${digits(hertz)} Hz)`
  return `${digits(value)} ${signal.unit}`
}

/** A length of time as people say it. */
export function span(seconds: number): string {
  const size = Math.abs(seconds)
  const [factor, unit] = size >= 1 ? [1, 's'] : size >= 1e-3 ? [1e3, 'ms'] : [1e6, 'µs']
  return `${Number((seconds * factor).toPrecision(5))} ${unit}`
}
