<!-- A time of the day: by the clock, or so much before or after the sun rises or sets; or a date with its time, as it is written. -->
<script lang="ts">
  import { live } from '../state/live.svelte'

  let { label, value = $bindable(), bad = false, required = false }: { label: string; value: string; bad?: boolean; required?: boolean } = $props()

  const SUN = /^(sunrise|sunset)(?:\s*([+-])\s*(\d+)\s*min)?$/
  const kind = $derived(value === '' ? 'none' : /^\d\d:\d\d$/.test(value) ? 'clock' : SUN.test(value) ? value.match(SUN)![1] : 'written')
  const minutes = $derived(Number(value.match(SUN)?.[3] ?? 0) * (value.match(SUN)?.[2] === '-' ? -1 : 1))
  const sun = (which: string, by: number) => `${which}${by ? ` ${by < 0 ? '-' : '+'} ${Math.abs(by)} min` : ''}`

  function choose(to: string): void {
    value = to === 'none' ? '' : to === 'clock' ? '18:00' : to === 'written' ? '18:00:00' : to
  }
</script>

<div class="time" role="group" aria-label={label}>
  <label>{label}
    <select class="select" value={kind} onchange={(event) => choose(event.currentTarget.value)}>
      {#if !required}<option value="none">not said</option>{/if}
      <option value="clock">at</option>
      {#if live.site?.latitude !== null || kind.startsWith('sun')}<option value="sunset">sunset</option><option value="sunrise">sunrise</option>{/if}
      <option value="written">as written</option>
    </select>
  </label>
  {#if kind === 'clock'}<input class="input" class:bad type="time" aria-label="{label} at" bind:value {required} />
  {:else if kind === 'sunset' || kind === 'sunrise'}
    <label>minutes after (before: below 0)<input class="input" class:bad type="number" step="5" value={minutes} oninput={(event) => (value = sun(kind, Math.round(Number(event.currentTarget.value) || 0)))} /></label>
  {:else if kind === 'written'}<input class="input" class:bad aria-label="{label}, as written" bind:value {required} />{/if}
</div>

<style>
  .time { display: flex; flex-direction: column; gap: 0.3rem; }
  label { font-size: 0.75rem; color: var(--quiet); }
  .input, .select { display: block; width: 100%; min-height: 2.75rem; color: var(--ink); }
  .bad { border-color: var(--ill); }
</style>
