<!-- Inputs, one a line. Those of a simulated board can be worked. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt, clock, live } from '../state/live.svelte'
  import { places } from '../state/say'
  import type { Input } from '../state/types'

  let { names, label, simulated = false, change = false }: { names: string[]; label: string; simulated?: boolean; change?: boolean } = $props()

  /** What its board may pretend that it does next. */
  const ways = (input: Input) =>
    input.kind === 'encoder' ? [['turned down', 'Turn down'], ['turned up', 'Turn up']] : [input.words[input.active ? 0 : 1]].map((word) => [word, `Pretend ${word}`])

  const aside = (input: Input) =>
    input.volts !== null ? `${places(input.volts, 3)} V` : input.raw !== null && input.raw !== input.active ? `line: ${input.words[input.raw ? 1 : 0]}` : clock(input.since)
</script>

<ul aria-label={label} class:change>
  {#each names as name (name)}
    {@const input = live.inputs[name]}
    <li data-input={name}>
      <span class="sign" class:active={input.active} class:unknown={input.active === null && input.kind !== 'analogue'} class:value={input.kind === 'analogue' || input.kind === 'encoder'} aria-hidden="true"></span>
      <span class="label">{#if change && live.keeps}<a href="#site/changes/input/{encodeURIComponent(name)}" aria-label="Change {input.label}">{input.label}</a>{:else}{input.label}{/if}</span>
      <span class="state" class:active={input.active}>{input.state}</span>
      {#if simulated && input.kind !== 'analogue' && live.role !== 'watch'}
        <span class="ways">
          {#each ways(input) as [state, says] (state)}
            <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => attempt(() => api.pretend(name, { state }))}>{says}</button>
          {/each}
        </span>
      {:else}
        <span class="since">{aside(input)}</span>
      {/if}
    </li>
  {/each}
</ul>

<style>
  ul { font-size: 0.9rem; }
  li { display: grid; grid-template-columns: 1.6rem minmax(0, 1fr) auto minmax(4.8rem, auto); column-gap: 0.6rem; align-items: center; min-height: 2.1rem; border-top: 1px solid var(--line); }
  li:first-child { border-top: 0; }
  .change li { min-height: 3rem; }
  .label { overflow-wrap: anywhere; }
  .label a { display: flex; align-items: center; min-height: 2.75rem; text-decoration: underline; }
  .btn { min-height: 2.75rem; white-space: normal; }
  .ways { display: flex; gap: 0.4rem; justify-content: end; }
  .sign { justify-self: center; width: 0.7rem; height: 0.7rem; border: 1.5px solid var(--soft); transform: rotate(45deg); }
  .sign.active { background: var(--well); border-color: var(--well); }
  .sign.value { border-radius: 50%; transform: none; }
  .sign.unknown { border-style: dashed; }
  .state.active { color: var(--well); font-weight: 600; }
  .since { overflow-wrap: anywhere; text-align: right; color: var(--soft); font-size: 0.8rem; }
</style>
