// Whether what is shown is true: the service says every two seconds that it lives, and what time it is there.

/** After so many milliseconds without a word everything that is shown is old. */
const OLD = 5000
/** A stream that breaks is mostly back at once: so long it may be away before anybody is told. */
const BROKEN = 700

export const link = $state({
  /** What is shown may not be so any more. */
  old: false,
  /** When the service was heard last, by its own clock (milliseconds since 1970). */
  since: 0,
})

let heardAt = performance.now()
let ahead: number | undefined
let broken: number | undefined

/** The service's clock, once it has told it: it may be a little late, by what a message takes. */
export const clockThere = () => (ahead === undefined ? undefined : performance.now() + ahead)
/** The same, or until then this device's, which may be wrong: for what is only shown. */
export const serviceTime = () => clockThere() ?? Date.now()

/** A word has come; `at` is the time there, if it said that. */
export function heard(at?: number): void {
  heardAt = performance.now()
  broken = undefined
  if (at !== undefined) ahead = at - heardAt
  link.old = false
}

/** The stream has ended; it is tried again. */
export function lost(): void {
  broken ??= performance.now()
}

function look(): void {
  const now = performance.now()
  const gone = now - heardAt > OLD || (broken !== undefined && now - broken > BROKEN)
  if (gone && !link.old) link.since = heardAt + (ahead ?? Date.now() - now)
  link.old = gone
}

setInterval(look, 250)
document.addEventListener('visibilitychange', look) // a phone that slept
