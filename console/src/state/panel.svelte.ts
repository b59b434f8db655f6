// A panel on the wall: shows what is now and nothing else, dims when nobody touches it, wakes on touch, is left with a code. All of
// that belongs to this browser; what its key may do is the service's. The code keeps visitors in, not attackers out.

import { kept } from './kept.svelte'
import { serviceTime } from './link.svelte'
import { isoTime } from './say'

export interface Panel {
  salt: string
  hash: string
  /** Minutes without a touch after which it dims; 0: never. */
  after: number
  /** Darker between these times of the day. */
  from: string
  to: string
}

/** Minutes for which everything is open after the code, from the last touch on. */
const OPEN = 3
const ROUNDS = 100_000
const MINUTE = 60_000

const settings = kept<Panel | null>('panel', null)
const bytes = (text: string) => Uint8Array.from(text.match(/../g) ?? [], (pair) => parseInt(pair, 16))
const hex = (data: ArrayBuffer | Uint8Array<ArrayBuffer>) => [...new Uint8Array(data)].map((each) => each.toString(16).padStart(2, '0')).join('')

async function stirred(code: string, salt: string): Promise<string> {
  const key = await crypto.subtle.importKey('raw', new TextEncoder().encode(code), 'PBKDF2', false, ['deriveBits'])
  return hex(await crypto.subtle.deriveBits({ name: 'PBKDF2', hash: 'SHA-256', salt: bytes(salt), iterations: ROUNDS }, key, 256))
}

let now = $state(performance.now())
let touch = $state(performance.now())
let opened = $state(false)
let zone = 'UTC'

const clock = () => isoTime(zone, serviceTime())

export const panel = {
  /** A browser makes no code where the address is not secure. */
  get possible(): boolean {
    return globalThis.crypto?.subtle !== undefined
  },
  get is(): boolean {
    return settings.now !== null
  },
  /** It shows what is now and nothing else. */
  get locked(): boolean {
    return settings.now !== null && !opened
  },
  get dim(): boolean {
    return settings.now !== null && settings.now.after > 0 && now - touch > settings.now.after * MINUTE
  },
  get night(): boolean {
    void now
    if (settings.now === null) return false
    const { from, to } = settings.now
    const time = clock()
    return from <= to ? time >= from && time < to : time >= from || time < to
  },
  async begin(code: string, how: { after: number; from: string; to: string }, timezone: string): Promise<void> {
    const salt = hex(crypto.getRandomValues(new Uint8Array(16)))
    zone = timezone
    settings.now = { salt, hash: await stirred(code, salt), ...how }
    opened = false
    void awake()
  },
  /** Whether this is its code; then everything is open until nobody has touched it for a while. */
  async open(code: string): Promise<boolean> {
    const right = settings.now !== null && (await stirred(code, settings.now.salt)) === settings.now.hash
    opened ||= right
    return right
  },
  lock: () => (opened = false),
  end: () => (settings.now = null),
  touched: () => (touch = now = performance.now()),
  at: (timezone: string) => (zone = timezone),
}

function look(): void {
  now = performance.now()
  if (opened && now - touch > OPEN * MINUTE) opened = false
}

setInterval(look, 1000)
for (const kind of ['pointerdown', 'keydown']) addEventListener(kind, () => !panel.dim && panel.touched(), { passive: true, capture: true })
// keys wake it too, and do no more
addEventListener('keydown', (event) => {
  if (!panel.dim) return
  panel.touched()
  event.preventDefault()
  event.stopPropagation()
}, { capture: true })

/** The screen stays on, where the browser can see to that. */
async function awake(): Promise<void> {
  if (settings.now === null || document.visibilityState !== 'visible') return
  try {
    await navigator.wakeLock?.request('screen')
  } catch {
    // a battery that is low: the system decides
  }
}
document.addEventListener('visibilitychange', () => void awake())
void awake()
