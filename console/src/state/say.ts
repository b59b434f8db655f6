// Dates, times, days and numbers as this browser's language writes them; times in the site's zone. What is sent to the service, or put
// into a field of the browser's, has one form for all.

const forms = new Map<string, Intl.DateTimeFormat>()

/** How times are written where the site is. */
export function inZone(zone: string, how: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const name = JSON.stringify([zone, how])
  const found = forms.get(name) ?? new Intl.DateTimeFormat(undefined, { timeZone: zone, ...how })
  forms.set(name, found)
  return found
}

/** A number with so many digits that count. */
export const number = (value: number, digits = 3) => new Intl.NumberFormat(undefined, { maximumSignificantDigits: digits, useGrouping: false }).format(value)
/** A number with so many places, for columns. */
export const places = (value: number, count: number) => new Intl.NumberFormat(undefined, { minimumFractionDigits: count, maximumFractionDigits: count, useGrouping: false }).format(value)

// --- in one form for all ----------------------------------------------------------------------------------------

/** The day where the site is, as in 2026-11-23. */
export const isoDay = (zone: string, at: number) => new Intl.DateTimeFormat('en-CA', { timeZone: zone }).format(at)
/** The time of the day there, as in 18:05, or with its seconds. */
export const isoTime = (zone: string, at: number, seconds = false) =>
  new Intl.DateTimeFormat('en-GB', { timeZone: zone, hour: '2-digit', minute: '2-digit', ...(seconds ? { second: '2-digit' } : {}), hourCycle: 'h23' }).format(at)

// --- days of the week -------------------------------------------------------------------------------------------

export interface WeekDay { code: string; name: string }
/** As rules of RFC 5545 call them, Monday first. */
export const CODES = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU']

interface WeekInfo { firstDay: number }
function firstDay(): number {
  const locale = new Intl.Locale(navigator.language) as Intl.Locale & { getWeekInfo?: () => WeekInfo; weekInfo?: WeekInfo }
  return (locale.getWeekInfo?.() ?? locale.weekInfo)?.firstDay ?? 1
}

/** The days, from the one that the week begins with here. */
export function week(): WeekDay[] {
  const names = new Intl.DateTimeFormat(undefined, { weekday: 'short', timeZone: 'UTC' })
  const days = CODES.map((code, number) => ({ code, name: names.format(Date.UTC(2024, 0, 1 + number)) })) // that was a Monday
  const first = firstDay() - 1
  return [...days.slice(first), ...days.slice(0, first)]
}
