<!-- A slider for a level. While it is moved it shows the hand's value and sends at most so many a second;
     otherwise it follows what is wanted. The browser's own: it tells of what a hand does and of nothing else. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt } from '../state/live.svelte'
  import type { Output } from '../state/types'

  let { output }: { output: Output } = $props()

  const EVERY = 80
  let moved = $state<number>()
  let sending = false
  let next: number | undefined

  const value = $derived(moved ?? Math.round(output.wanted.level ?? 0))

  async function send(level: number): Promise<void> {
    next = level
    if (sending) return
    sending = true
    while (next !== undefined) {
      const level = next
      next = undefined
      const good = await attempt(() => api.turn(output.name, level))
      if (!good) next = undefined
      await new Promise((done) => setTimeout(done, EVERY))
    }
    sending = false
    moved = undefined
  }
</script>

<input type="range" min="0" max="100" step="1" {value} aria-label="Level of {output.label} in percent" aria-valuetext="{value} %" style:--at="{value}%"
  oninput={(event) => { moved = Number(event.currentTarget.value); void send(moved) }} />

<style>
  input { appearance: none; width: 100%; height: 2.75rem; background: none; cursor: pointer; --track: linear-gradient(to right, var(--on) var(--at), var(--line) var(--at)); }
  input::-webkit-slider-runnable-track { height: 0.7rem; border-radius: 0.35rem; background: var(--track); border: 1px solid var(--edge); }
  input::-moz-range-track { height: 0.7rem; border-radius: 0.35rem; background: var(--track); border: 1px solid var(--edge); }
  input::-webkit-slider-thumb { appearance: none; width: 1.7rem; height: 1.7rem; margin-top: -0.55rem; border-radius: 50%; background: var(--stone); border: 3px solid var(--on); }
  input::-moz-range-thumb { width: 1.4rem; height: 1.4rem; border-radius: 50%; background: var(--stone); border: 3px solid var(--on); }
</style>
