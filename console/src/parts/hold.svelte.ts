// Hold to run: on while a finger or a key is down on it. A lease that is renewed keeps it up, so whatever ends the pressing (a
// finger, lost focus, a lost network, a phone that sleeps) ends it too.

import { keep } from '../state/lease'
import { use } from '../state/kept.svelte'
import { live } from '../state/live.svelte'

const EVERY = 250

export class Hold {
  held = $state(false)
  #by: number | string | undefined
  #running = false
  #output: () => string
  #refuse: (sentence: string) => void

  constructor(output: () => string, refuse: (sentence: string) => void) {
    this.#output = output
    this.#refuse = refuse
    const end = () => this.end()
    $effect(() => {
      if (live.lost) end()
    })
    $effect(() => {
      addEventListener('blur', end)
      addEventListener('pagehide', end)
      document.addEventListener('visibilitychange', end)
      return () => {
        end()
        removeEventListener('blur', end)
        removeEventListener('pagehide', end)
        document.removeEventListener('visibilitychange', end)
      }
    })
  }

  /** A finger (its number) or a key goes down. A second one changes nothing. */
  press(by: number | string): void {
    if (this.#by !== undefined) return
    this.#by = by
    this.held = true
    void this.#run()
  }

  /** A finger or a key goes up: only the one that holds it counts. */
  lift(by: number | string): void {
    if (by === this.#by) this.end()
  }

  end(): void {
    this.#by = undefined
    this.held = false
  }

  async #run(): Promise<void> {
    if (this.#running) return
    this.#running = true
    const why = await keep(this.#output(), '1 s', EVERY, () => this.held)
    this.#running = false
    this.end()
    if (!why) use(this.#output())
    if (why) this.#refuse(`It has stopped. ${why}`)
  }
}
