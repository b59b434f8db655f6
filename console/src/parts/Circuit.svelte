<!-- How one output or input is wired: drawn, with its parts and what was reckoned with. It shows GET /api/v1/circuits/NAME. -->
<script lang="ts">
  import * as api from '../state/api'
  import { later } from '../state/later'
  import type { Circuit } from '../state/types'

  let { name }: { name: string } = $props()

  /** A gate resistor is a resistor; a transistor may be a MOSFET. */
  const called = ({ role, what }: { role: string; what: string }) => (role.includes(what) ? role : `${role}: ${what}`)
  let circuit = $state.raw<Circuit>()
  let wrong = $state('')

  $effect(() => {
    const asked = name
    circuit = undefined
    return later(0, () => api.circuit(asked), (its) => (circuit = its), (error) => (wrong = api.said(error)))
  })
</script>

{#if wrong}<p role="alert">{wrong}</p>
{:else if circuit}
  <figure>
    <img src={api.drawingOf(circuit.name)} alt="The circuit from {circuit.pins.join(', ')} to {circuit.label}{circuit.parts.length ? `, with ${circuit.parts.map((part) => `${part.what} ${part.value}`).join(', ')}` : ''}" />
  </figure>
  {#if circuit.parts.length}
    <ul>
      {#each circuit.parts as part (part.role)}
        <li><strong>{part.count > 1 ? `${part.count} × ` : ''}{called(part)}</strong>, {part.value}{#if part.because}<small>{part.because}</small>{/if}</li>
      {/each}
    </ul>
  {/if}
  {#each circuit.notes as note (note)}<p class="note">{note}</p>{/each}
{/if}

<style>
  figure { overflow-x: auto; padding: 0.4rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-base); }
  img { max-width: 100%; height: auto; margin: 0 auto; }
  :global(:root[data-mode='dark']) img { filter: invert(1); }
  ul { margin-top: 0.6rem; font-size: 0.9rem; line-height: 1.5; }
  li { padding-block: 0.25rem; border-top: 1px solid var(--line); }
  small { display: block; color: var(--soft); }
  .note { margin-top: 0.5rem; padding-left: 0.7rem; border-left: 3px solid var(--wary); font-size: 0.9rem; line-height: 1.45; }
  @media print { figure { border: 0; } img { filter: none !important; } }
</style>
