// A lease that this page keeps alive: it ends when that is no longer wanted, when the page closes, or by itself when the link is lost.

import * as api from './api'

/** Milliseconds after which it is seen that it is wanted no longer. */
const TICK = 40

/** Hold an output until `wanted` says no, renewing every so many milliseconds; returns why it ended before, empty if it did not. */
export async function keep(output: string, lease: string, every: number, wanted: () => boolean): Promise<string> {
  let claim: number | undefined
  const letGo = () => claim !== undefined && void api.letGoClaim(claim).catch(() => undefined) // it ends by itself if that is lost
  addEventListener('pagehide', letGo)
  try {
    await api.awake()
    if (wanted()) claim = (await api.hold(output, lease)).claim?.id
    while (claim !== undefined && wanted()) {
      const next = performance.now() + every
      while (wanted() && performance.now() < next) await new Promise((done) => setTimeout(done, Math.min(TICK, every)))
      if (wanted()) await api.renew([claim])
    }
    return ''
  } catch (error) {
    return api.said(error)
  } finally {
    removeEventListener('pagehide', letGo)
    letGo()
  }
}
