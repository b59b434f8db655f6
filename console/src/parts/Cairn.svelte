<!-- Four stones, from wish to pin: wanted on top, then allowed, driven, confirmed.
     A stone is full where the load is on, hollow where it is off, broken where that is not known. -->
<script lang="ts">
  import type { Output, Setting } from '../state/types'

  let { output }: { output: Output } = $props()

  const stones = $derived(
    [
      { stage: 'wanted', setting: output.wanted, y: 5, rx: 5.5 },
      { stage: 'allowed', setting: output.allowed, y: 13, rx: 8 },
      { stage: 'driven', setting: output.driven, y: 21, rx: 10.5 },
      { stage: 'confirmed', setting: output.confirmed, y: 29, rx: 13 },
    ] as { stage: string; setting: Setting | null; y: number; rx: number }[],
  )
  const said = $derived(stones.map(({ stage, setting }) => `${stage} ${setting?.words ?? 'unknown'}`).join(', '))
</script>

<svg viewBox="0 0 32 34" width="30" height="32" role="img" aria-label={said} class:wary={!['confirmed', 'driving', 'running'].includes(output.state)}>
  <title>{said}</title>
  {#each stones as stone, number (stone.stage)}
    <ellipse
      cx={16 + (number % 2 ? 0.7 : -0.7)} cy={stone.y} rx={stone.rx} ry="3.1"
      class:on={stone.setting?.on} class:unknown={!stone.setting}
    />
  {/each}
</svg>

<style>
  svg { flex: none; }
  ellipse { fill: none; stroke: var(--quiet); stroke-width: 1.3; transition: fill 120ms; }
  ellipse.on { fill: var(--on); stroke: var(--on); }
  ellipse.unknown { stroke-dasharray: 2.2 2.2; }
  .wary ellipse { stroke: var(--wary); }
  .wary ellipse.on { fill: var(--wary); }
</style>
