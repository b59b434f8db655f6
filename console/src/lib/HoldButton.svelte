<!-- Hold to run: on while it is pressed, by pointer, touch, Space or Enter. A lease that is renewed keeps it up, so whatever
     ends the pressing (a finger, lost focus, a lost network, a phone that sleeps) ends it too. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import * as api from './api'
  import { attempt, live } from './live.svelte'
  import type { Output } from './types'

  let { output }: { output: Output } = $props()

  const EVERY = 250
  let held = $state(false)
  let running = false

  async function press(): Promise<void> {
    if (held) return
    held = true
    if (running) return
    running = true
    let claim: number | undefined
    held = (await attempt(api.awake)) && held
    if (held) held = (await attempt(async () => (claim = (await api.hold(output.name)).claim?.id))) && held
    while (held && claim !== undefined) {
      await new Promise((done) => setTimeout(done, EVERY))
      if (held && !(await attempt(() => api.renew([claim!])))) held = false
    }
    if (claim !== undefined) await api.letGoClaim(claim).catch(() => undefined) // it ends by itself if that is lost
    running = false
  }

  const end = () => (held = false)
  $effect(() => {
    if (live.lost) end()
  })
  onDestroy(end)
</script>

<svelte:window onblur={end} onpagehide={end} />
<svelte:document onvisibilitychange={end} />

<button
  type="button" class="btn preset-outlined-surface-500 hold" class:held aria-pressed={held} aria-label="Hold to run {output.label}"
  onpointerdown={(event) => { event.currentTarget.setPointerCapture(event.pointerId); void press() }}
  onpointerup={end} onpointercancel={end} onlostpointercapture={end} onblur={end} oncontextmenu={(event) => event.preventDefault()}
  onkeydown={(event) => { if (event.key === ' ' || event.key === 'Enter') { event.preventDefault(); if (!event.repeat) void press() } }}
  onkeyup={end}
>
  {held ? 'Runs while you hold' : 'Hold to run'}
</button>

<style>
  .hold { width: 100%; touch-action: none; user-select: none; font-size: 0.9rem; }
  .held { border-color: var(--on); color: var(--on); font-weight: 700; }
</style>
