<!-- A pad: two motors from one position, or zones that each hold an output. It drives only while it is held, by pointer, touch or arrow keys: PUT again
     and again under a lease, so that a lost page, network or finger stops it. -->
<script lang="ts">
  import { onDestroy } from 'svelte'
  import * as api from '../state/api'
  import { Problem } from '../state/api'
  import { live } from '../state/live.svelte'
  import type { Pad } from '../state/types'

  let { pad }: { pad: Pad } = $props()

  const EVERY = 50
  const KEYS: Record<string, [number, number]> = { ArrowUp: [0, 1], ArrowDown: [0, -1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }
  let at = $state<[number, number]>()
  let area: HTMLButtonElement
  let pressed = new Set<string>()
  let running = false
  let finger: number | undefined // the one that holds it: what others do changes nothing

  let said = $state('')

  async function tries(action: () => Promise<unknown>): Promise<boolean> {
    try {
      await action()
      return true
    } catch (error) {
      if (!(error instanceof Problem)) throw error
      said = `It has stopped. ${error.sentence} ${error.remedy}`
      finger = at = undefined
      return false
    }
  }

  async function run(): Promise<void> {
    if (running) return
    running = true
    let again = false
    said = ''
    await tries(api.awake)
    while (at) {
      const [x, y] = at
      const next = new Promise((done) => setTimeout(done, EVERY)) // twenty a second, however long an answer takes
      if (await tries(() => api.steer(pad.name, x, y, again))) await next
      again = true
    }
    running = false
    await api.letGo(pad.name).catch(() => undefined)
  }

  function move(event: PointerEvent): void {
    const box = area.getBoundingClientRect()
    const share = (value: number, from: number, length: number) => Math.max(-1, Math.min(1, ((value - from) / length) * 2 - 1))
    at = [share(event.clientX, box.left, box.width), -share(event.clientY, box.top, box.height)]
    void run()
  }

  function keys(): void {
    const sum = [...pressed].map((key) => KEYS[key]).reduce(([x, y], [dx, dy]) => [x + dx, y + dy], [0, 0])
    at = pressed.size ? [sum[0] * 0.6, sum[1] * 0.6] : undefined
    if (at) void run()
  }

  function end(): void {
    pressed.clear()
    finger = at = undefined
  }

  function down(event: PointerEvent): void {
    if (finger !== undefined || event.button) return
    finger = event.pointerId
    area.setPointerCapture(finger)
    move(event)
  }

  const lift = (event: PointerEvent) => event.pointerId === finger && end()

  onDestroy(end)
  $effect(() => {
    if (live.lost) end()
  })

  const may = $derived(pad.outputs.every((name) => live.may(name)))
  const words = (name: string) => live.outputs[name]?.confirmed?.words ?? 'unknown'
</script>

<svelte:window onblur={end} onpagehide={end} />
<svelte:document onvisibilitychange={end} />

<div class="row" data-pad={pad.name}>
  <button
    type="button" bind:this={area} class="area" class:held={at} aria-label="{[pad.label, ...Object.values(pad.zones).map((output) => live.outputs[output]?.label ?? output)].join(', ')}: drag, or hold the arrow keys"
    onpointerdown={down}
    onpointermove={(event) => event.pointerId === finger && move(event)}
    oncontextmenu={(event) => event.preventDefault()}
    onpointerup={lift} onpointercancel={lift} onlostpointercapture={lift} disabled={!may}
    onblur={() => pressed.size && end()}
    onkeydown={(event) => { if (event.key in KEYS) { event.preventDefault(); pressed.add(event.key); keys() } }}
    onkeyup={(event) => { pressed.delete(event.key); keys() }}
  >
    {#each Object.entries(pad.zones) as [zone, output] (zone)}<span class="zone {zone}">{live.outputs[output]?.label ?? output}</span>{/each}
    <span class="dot" style="left: {50 + (at?.[0] ?? 0) * 50}%; top: {50 - (at?.[1] ?? 0) * 50}%"></span>
  </button>
  <p><strong>{pad.label}</strong><br />{#if pad.left && pad.right}left {words(pad.left)}<br />right {words(pad.right)}{:else}{#each pad.outputs as name (name)}{live.outputs[name]?.label ?? name}: {words(name)}<br />{/each}{/if}<br /><span class="aside">drives while it is held</span></p>
  {#if said}<p class="said" role="alert">{said}</p>{/if}
</div>

<style>
  .row { display: flex; gap: 1rem; align-items: center; padding: 0.8rem; font-size: 0.9rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  .row p { overflow-wrap: anywhere; }
  .area { position: relative; width: min(100%, 8.5rem); aspect-ratio: 1; user-select: none; flex: none; touch-action: none; border: 1.5px solid var(--line); border-radius: 46% 54% 48% 52%; cursor: crosshair; background: linear-gradient(var(--line), var(--line)) center / 1px 100% no-repeat, linear-gradient(var(--line), var(--line)) center / 100% 1px no-repeat; }
  .zone { position: absolute; left: 0; right: 0; text-align: center; font-size: 0.75rem; color: var(--quiet); pointer-events: none; }
  .up { top: 0.7rem; }
  .down { bottom: 0.7rem; }
  .middle, .left, .right { top: calc(50% - 0.6rem); }
  .left { right: 50%; }
  .right { left: 50%; }
  .held { border-color: var(--on); }
  .dot { position: absolute; width: 1.5rem; height: 1.2rem; margin: -0.6rem 0 0 -0.75rem; border-radius: 50%; background: var(--quiet); pointer-events: none; }
  .held .dot { background: var(--on); }
  @media (pointer: coarse) { .area { width: min(62%, 15rem); } }
  .aside { color: var(--quiet); font-size: 0.78rem; }
  .said { color: var(--ill); }
</style>
