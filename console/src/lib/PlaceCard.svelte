<!-- What is in one place: its outputs, then its inputs. -->
<script lang="ts">
  import { clock } from './live.svelte'
  import OutputRow from './OutputRow.svelte'
  import type { Input, Output } from './types'

  let { place, outputs, inputs }: { place: string; outputs: Output[]; inputs: Input[] } = $props()
</script>

<section class="card" aria-label={place}>
  <h2>{place}</h2>
  <ul>
    {#each outputs as output (output.name)}
      <OutputRow {output} />
    {/each}
  </ul>
  {#if inputs.length}
    <ul class="inputs" aria-label="Inputs in the {place}">
      {#each inputs as input (input.name)}
        <li data-input={input.name}>
          <span class="sign" class:active={input.active} class:unknown={input.active === null} aria-hidden="true"></span>
          <span class="label">{input.label}</span>
          <span class="state" class:active={input.active}>{input.state}</span>
          <span class="since">{clock(input.since)}</span>
        </li>
      {/each}
    </ul>
  {/if}
</section>

<style>
  section { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.9rem 1.1rem 0.8rem; margin-bottom: 1rem; }
  h2 { font-size: 0.8rem; letter-spacing: 0.09em; text-transform: uppercase; color: var(--quiet); margin-bottom: 0.45rem; }
  .inputs { border-top: 1px solid var(--line); padding-top: 0.5rem; font-size: 0.88rem; }
  .inputs li { display: grid; grid-template-columns: 30px minmax(0, 1fr) auto 4.6rem; column-gap: 0.7rem; align-items: center; padding: 0.18rem 0; }
  .sign { justify-self: center; width: 0.7rem; height: 0.7rem; border: 1.5px solid var(--quiet); transform: rotate(45deg); }
  .sign.active { background: var(--well); border-color: var(--well); }
  .sign.unknown { border-style: dashed; }
  .state.active { color: var(--well); font-weight: 600; }
  .since { text-align: right; color: var(--quiet); font-size: 0.78rem; }
</style>
