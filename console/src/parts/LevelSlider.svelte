<!-- A slider for a level. While it is moved it shows the hand's value and sends at most so many a second;
     otherwise it follows what is wanted. -->
<script lang="ts">
  import { Slider } from '@skeletonlabs/skeleton-svelte'
  import * as api from '../state/api'
  import { attempt } from '../state/live.svelte'
  import type { Output } from '../state/types'

  let { output }: { output: Output } = $props()

  const EVERY = 80
  let moved = $state<number>()
  let held = false // only what a hand does is sent: the slider also tells of the changes it is shown
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

<svelte:window onpointerup={() => (held = false)} />
<div role="presentation" onpointerdowncapture={() => (held = true)} onkeydowncapture={() => (held = true)} onkeyup={() => (held = false)}>
<Slider
  value={[value]} min={0} max={100} step={1} aria-label={['Level of ' + output.label + ' in percent']}
  onValueChange={(change) => { if (!held || change.value[0] === value) return; moved = change.value[0]; void send(change.value[0]) }}
>
  <Slider.Control>
    <Slider.Track><Slider.Range class="bg-primary-500" /></Slider.Track>
    <Slider.Thumb index={0} class="ring-primary-600"><Slider.HiddenInput /></Slider.Thumb>
  </Slider.Control>
</Slider>
</div>
