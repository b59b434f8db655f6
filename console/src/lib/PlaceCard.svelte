<!-- What is in one place: its outputs, then its inputs. -->
<script lang="ts">
  import * as api from './api'
  import { attempt, clock, live } from './live.svelte'
  import OutputRow from './OutputRow.svelte'
  import PadField from './PadField.svelte'
  import type { Input, Output } from './types'

  let { place, outputs, inputs, simulated = false }: { place: string; outputs: Output[]; inputs: Input[]; simulated?: boolean } = $props()
  const pads = $derived(live.pads.filter((pad) => outputs.some((output) => output.name === pad.outputs[0])))
</script>

<section class="card" aria-label={place}>
  <h2>{place}</h2>
  <ul>
    {#each outputs as output (output.name)}
      <OutputRow {output} />
    {/each}
  </ul>
  {#each pads as pad (pad.name)}
    <PadField {pad} />
  {/each}
  {#if inputs.length}
    <ul class="inputs" aria-label="Inputs in the {place}">
      {#each inputs as input (input.name)}
        <li data-input={input.name}>
          <span class="sign" class:active={input.active} class:unknown={input.active === null && input.kind !== 'analogue'} class:value={input.kind === 'analogue'} aria-hidden="true"></span>
          <span class="label">{input.label}</span>
          <span class="state" class:active={input.active}>{input.state}</span>
          {#if simulated && input.kind !== 'analogue'}
            <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => attempt(() => api.pretend(input.name, { state: input.words[input.active ? 0 : 1] }))}>
              Pretend {input.words[input.active ? 0 : 1]}
            </button>
          {:else}
            <span class="since" title="since {clock(input.since)}">{input.volts !== null ? `${input.volts.toFixed(3)} V` : input.raw !== null && input.raw !== input.active ? `line: ${input.words[input.raw ? 1 : 0]}` : clock(input.since)}</span>
          {/if}
        </li>
      {/each}
    </ul>
  {/if}
</section>

<style>
  section { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.9rem 1.1rem 0.8rem; margin-bottom: 1rem; }
  h2 { font-size: 0.8rem; letter-spacing: 0.09em; text-transform: uppercase; color: var(--quiet); margin-bottom: 0.45rem; }
  .inputs { border-top: 1px solid var(--line); padding-top: 0.5rem; font-size: 0.88rem; }
  .inputs li { display: grid; grid-template-columns: 30px minmax(0, 1fr) auto minmax(4.6rem, auto); column-gap: 0.7rem; align-items: center; padding: 0.18rem 0; }
  .sign { justify-self: center; width: 0.7rem; height: 0.7rem; border: 1.5px solid var(--quiet); transform: rotate(45deg); }
  .sign.active { background: var(--well); border-color: var(--well); }
  .sign.value { border-radius: 50%; transform: none; }
  .sign.unknown { border-style: dashed; }
  .state.active { color: var(--well); font-weight: 600; }
  .since { text-align: right; color: var(--quiet); font-size: 0.78rem; }
</style>
