// Which one is it? An output goes on and off a few times, held by this page; several after each other walk through a board.

import * as api from './api'

const STEP = 500
const TIMES = 3
/** Kinds that may hurt somebody: whoever asks for them says that nobody is near. */
export const MOVING = ['motor', 'heater', 'lock']

/** Which one blinks just now; empty: none. */
export const blinking = $state({ now: '' })
let ended = true

const pause = () => new Promise((done) => setTimeout(done, STEP))

/** Blink these one after the other; returns why it ended before its time, empty if it did not. */
export async function blink(outputs: string[]): Promise<string> {
  if (!ended) return 'Another one blinks already.'
  ended = false
  let claim: number | undefined
  const letGo = () => claim !== undefined && void api.letGoClaim(claim).catch(() => undefined) // it ends by itself if that is lost
  addEventListener('pagehide', letGo)
  try {
    return await api.refusal(async () => {
      for (const output of outputs) {
        for (let step = 0; step < 2 * TIMES && !ended; step++) {
          blinking.now = output
          claim = (await api.hold(output, '2 s', step % 2 ? 'off' : 'on')).claim?.id
          await pause()
        }
        letGo()
        claim = undefined
      }
    })
  } finally {
    removeEventListener('pagehide', letGo)
    letGo()
    blinking.now = ''
    ended = true
  }
}

/** It has been found, or whoever looked goes away. */
export const found = () => (ended = true)
