<!-- Which wire goes where, what to buy, and each circuit drawn: to be read beside the board, or printed. It shows GET /api/v1/circuits. -->
<script lang="ts">
  import { onMount } from 'svelte'
  import * as api from '../state/api'
  import { attempt, live } from '../state/live.svelte'
  import Circuit from '../parts/Circuit.svelte'
  import type { Sheet } from '../state/types'

  let { name }: { name: string } = $props()

  let sheet = $state.raw<Sheet>()
  let sought = $state('')
  onMount(() => attempt(async () => (sheet = await api.circuits())))

  const of = (wire: Sheet['wires'][number]) => live.outputs[wire.name]?.label || live.inputs[wire.name]?.label || wire.name
  const words = $derived(sought.toLowerCase().split(/\s+/).filter(Boolean))
  const wires = $derived((sheet?.wires ?? []).filter((wire) => words.every((word) => `${wire.name} ${of(wire)} ${wire.board} ${wire.place} ${wire.cable}`.toLowerCase().includes(word))))
  const boards = $derived([...new Set(wires.map((wire) => wire.board))])
  const chosen = $derived(sheet?.wires.some((wire) => wire.name === name) ? name : '')
  const from = (wire: Sheet['wires'][number]) => (wire.line === null ? `${wire.place} (${wire.role})` : wire.place.startsWith('line-') ? `line ${wire.line}` : `${wire.place} (line ${wire.line})`)
</script>

<main id="content" tabindex="-1">
  <div class="top">
    <label>With these words <input class="input" type="search" bind:value={sought} /></label>
    <button type="button" class="btn preset-outlined-surface-500" disabled={!sheet?.wires.length} onclick={() => print()}>Print</button>
  </div>
  {#if sheet && !sheet.wires.length}<p>Nothing is wired yet. Add <code>[output.…]</code> and <code>[input.…]</code> tables to the site file.</p>{/if}
  <div class="columns" class:two={chosen}>
    {#if chosen}
      <section class="card circuit" aria-label="Circuit of {chosen}">
        <h2>{live.outputs[chosen]?.label || live.inputs[chosen]?.label || chosen}</h2>
        <Circuit name={chosen} />
      </section>
    {/if}
    <div>
      {#each boards as board (board)}
        <section class="card" aria-label="Wires of {board}">
          <h2>{live.boards[board]?.label || board}</h2>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <div class="scroll" tabindex="0" role="group" aria-label="Table of wires of {board}">
            <table>
              <thead><tr><th scope="col">From</th><th scope="col">Label</th><th scope="col">For</th><th scope="col">To</th></tr></thead>
              <tbody>
                {#each wires.filter((wire) => wire.board === board) as wire (`${wire.name} ${wire.place} ${wire.role}`)}
                  <tr class:here={wire.name === chosen}>
                    <td class="from">{from(wire)}</td>
                    <td>{wire.cable || (wire.role === 'signal' ? `${wire.place} ${wire.name}` : '')}</td>
                    <td><a href="#site/wiring/{encodeURIComponent(wire.name)}" aria-current={wire.name === chosen ? 'true' : undefined}>{of(wire)}</a></td>
                    <td>{wire.to}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
          </div>
        </section>
      {:else}
        {#if sought}<p>No wire has these words.</p>{/if}
      {/each}
      {#if sheet?.parts.length && !sought}
        <section class="card" aria-label="To buy">
          <h2>To buy</h2>
          <ul class="parts">
            {#each sheet.parts as part (`${part.what} ${part.value}`)}<li><b>{part.count} ×</b><span>{part.what}, {part.value}</span><small>{part.outputs_and_inputs.join(', ')}</small></li>{/each}
          </ul>
        </section>
      {/if}
    </div>
  </div>
</main>

<style>
  .top { display: flex; flex-wrap: wrap; gap: 0.8rem; align-items: end; justify-content: space-between; margin-bottom: 0.8rem; }
  .top .btn, .top .input { min-height: 2.75rem; }
  label { font-size: 0.83rem; color: var(--soft); }
  .input { display: block; color: var(--ink); }
  .columns { display: grid; grid-template-columns: minmax(0, 1fr); gap: 1rem; align-items: start; }
  .card { background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); padding: 0.8rem 1rem; margin-bottom: 1rem; }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.4rem; }
  .scroll { overflow-x: auto; }
  table { width: 100%; border-collapse: collapse; font-size: 0.9rem; }
  th { text-align: left; font-weight: 600; color: var(--soft); padding: 0.3rem 0.8rem 0.3rem 0; }
  td { padding: 0.1rem 0.8rem 0.1rem 0; border-top: 1px solid var(--line); vertical-align: middle; }
  .from { white-space: nowrap; font-weight: 600; }
  td a { display: inline-flex; align-items: center; min-height: 2.75rem; color: var(--on); text-decoration: underline; text-underline-offset: 3px; }
  .here td { background: color-mix(in oklab, var(--glow) 22%, transparent); }
  .parts li { display: grid; grid-template-columns: 3rem 1fr; gap: 0 0.5rem; padding: 0.4rem 0; border-top: 1px solid var(--line); font-size: 0.92rem; }
  .parts small { grid-column: 2; color: var(--soft); overflow-wrap: anywhere; }
  @media (min-width: 75rem) {
    .two { grid-template-columns: minmax(0, 3fr) minmax(20rem, 2fr); }
    .circuit { order: 2; position: sticky; top: 4.6rem; max-height: calc(100dvh - 5.5rem); overflow: auto; }
  }
  @media print { .top { display: none; } .card { border: 0; padding: 0; } td a { min-height: 0; color: black; text-decoration: none; } td, th { padding-block: 0.25rem; } section { break-inside: avoid-page; } }
</style>
