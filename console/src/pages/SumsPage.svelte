<!-- Resistors, currents and supplies, reckoned step by step while one types. It shows GET and POST /api/v1/sums. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import { later } from '../state/later'
  import { attempt } from '../state/live.svelte'
  import type { Reckoned, Sum } from '../state/types'

  const WORDS: Record<string, string> = { led: 'LED', mosfet: 'MOSFET', pwm: 'PWM', no_click: 'nothing clicks' }
  const EXAMPLES: Record<string, string> = { 'led supply': '5 V', 'transistor load': '200 mA', 'divider source': '5 V', 'strip lamps': '60', 'strip limit': '2 A', 'pwm frequency': '1 kHz' }
  const word = (text: string) => WORDS[text] ?? text.replaceAll('_', ' ')
  let sums = $state.raw<Sum[]>([])
  let chosen = $state('led')
  let given = $state<Record<string, Record<string, string>>>({})
  let found = $state.raw<Reckoned>()
  let wrong = $state('')
  const sum = $derived(sums.find((each) => each.name === chosen))

  onMount(() => attempt(async () => {
    const all = await api.sums()
    given = Object.fromEntries(all.map((each) => [each.name, Object.fromEntries(each.asks.map((ask) => [ask.name, ask.default ?? EXAMPLES[`${each.name} ${ask.name}`] ?? '']))]))
    sums = all
  }))

  $effect(() => {
    if (!sum) return
    const [name, asked] = [chosen, Object.fromEntries(Object.entries(given[chosen]).filter(([, text]) => text.trim()))]
    return later(120, () => api.reckon(name, asked), (its) => ([found, wrong] = [its, '']), (error) => (wrong = api.said(error)))
  })
</script>

<main id="content" tabindex="-1">
  <div class="which" role="group" aria-label="What to reckon">
    {#each sums as each (each.name)}<button type="button" class="btn {each.name === chosen ? 'preset-filled-primary-500' : 'preset-outlined-surface-500'}" aria-pressed={each.name === chosen} onclick={() => { chosen = each.name; found = undefined }}>{word(each.name)}</button>{/each}
  </div>
  {#if sum}
    <div class="columns">
      <section class="card" aria-label="What is known">
        <p class="soft">{sum.says}</p>
        <div class="fields">
          {#each sum.asks as ask (ask.name)}
            {#if ask.kind === 'yes or no'}
              <label class="check"><input type="checkbox" class="checkbox" checked={given[chosen][ask.name] === 'yes'} onchange={(event) => (given[chosen][ask.name] = event.currentTarget.checked ? 'yes' : 'no')} /> <span>{ask.says}</span></label>
            {:else}
              <label><b>{word(ask.name)}{ask.needed ? '' : ask.default ? '' : ' (if known)'}</b>
                {#if ask.among.length}<select class="select" bind:value={given[chosen][ask.name]}>{#if !ask.default}<option value="">not said</option>{/if}{#each ask.among as each (each)}<option>{each}</option>{/each}</select>
                {:else}<input class="input" bind:value={given[chosen][ask.name]} spellcheck="false" />{/if}
                <small>{ask.says}</small></label>
            {/if}
          {/each}
        </div>
      </section>
      <section class="card" aria-label="What it comes to">
        {#if wrong}<p class="ill" role="alert">{wrong}</p>
        {:else if found}
          <h2>{found.title}</h2>
          <dl>
            {#each found.steps as step (step.what)}
              <dt>{step.what}</dt>
              <dd class:ill={!step.good}>{step.result}{#if step.formula}<small>{step.formula}</small>{/if}</dd>
            {/each}
          </dl>
        {/if}
      </section>
    </div>
  {/if}
</main>

<style>
  .which { display: flex; flex-wrap: wrap; gap: 0.5rem; margin-bottom: 1rem; }
  .btn { min-height: 2.75rem; }
  .columns { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(22rem, 100%), 1fr)); gap: 1rem; align-items: start; }
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.9rem 1.1rem; }
  .soft, small { color: var(--soft); }
  .fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(11rem, 100%), 1fr)); gap: 0.9rem; margin-top: 0.7rem; }
  label { font-size: 0.85rem; }
  b { display: block; font-weight: 600; }
  b::first-letter { text-transform: uppercase; }
  .input, .select { display: block; width: 100%; min-height: 2.75rem; }
  .check { display: flex; gap: 0.5rem; align-items: center; min-height: 2.75rem; }
  small { display: block; font-size: 0.8rem; line-height: 1.35; }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.5rem; }
  dt { margin-top: 0.6rem; font-size: 0.85rem; color: var(--soft); }
  dt::first-letter { text-transform: uppercase; }
  dd { font-weight: 600; overflow-wrap: anywhere; }
  dd small { font-weight: 400; font-family: ui-monospace, monospace; }
  .ill { color: var(--ill); }
</style>
