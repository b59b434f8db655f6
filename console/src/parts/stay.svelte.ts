// Only while this page is open: a lease that this page keeps, ended by every way of closing it.

import * as api from '../state/api'
import { Problem } from '../state/api'

/** Milliseconds between two renewals, well within the lease: a slow phone must not end it. */
const EVERY = 1500
const LEASE = '5 s'
const all = new Map<string, Stay>()

export class Stay {
  on = $state(false)
  #output: () => string
  #refuse: (sentence: string) => void

  constructor(output: () => string, refuse: (sentence: string) => void) {
    this.#output = output
    this.#refuse = refuse
    const before = all.get(output())
    if (before?.on) {
      this.on = true // it goes on, though its sheet was closed meanwhile
      before.on = false
      void this.#keep(before)
    }
  }

  flip(): void {
    this.on = !this.on
    if (this.on) void this.#keep()
  }

  claim: number | undefined

  async #keep(before?: Stay): Promise<void> {
    const output = this.#output()
    all.set(output, this)
    const gone = () => this.claim !== undefined && void api.letGoClaim(this.claim).catch(() => undefined)
    addEventListener('pagehide', gone)
    try {
      this.claim = before?.claim ?? (await api.hold(output, 'on', LEASE)).claim?.id
      if (before) before.claim = undefined
      while (this.on && this.claim !== undefined) {
        await new Promise((done) => setTimeout(done, EVERY))
        if (this.on && this.claim !== undefined) await api.renew([this.claim])
      }
    } catch (error) {
      if (!(error instanceof Problem)) throw error
      this.on = false
      this.#refuse(`It has ended. ${error.sentence} ${error.remedy}`)
    } finally {
      removeEventListener('pagehide', gone)
      const claim = this.claim
      if (!this.on && claim !== undefined) await api.letGoClaim(claim).catch(() => undefined)
    }
  }
}
