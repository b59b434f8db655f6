<!-- The page 'Remotes': the ways in and out, how they fare, what their addresses stand for and what goes over their wires.
     It shows GET /api/v1/remotes, …/map and …/traffic. -->
<script lang="ts">
  import * as api from '../state/api'
  import type { MapRow, Remote } from '../state/types'
  import { live } from '../state/live.svelte'
  import Keypad from '../parts/Keypad.svelte'
  import WireLog from '../parts/WireLog.svelte'

  let remotes = $state<Remote[]>()
  let maps = $state<Record<string, MapRow[]>>({})

  $effect(() => {
    const read = async () => (remotes = await api.remotes().catch(() => remotes))
    void read()
    const timer = setInterval(read, 1500)
    return () => clearInterval(timer)
  })

  const told = (facts: Record<string, unknown>) =>
    Object.entries(facts).filter(([, value]) => value !== '' && value !== false && !(Array.isArray(value) && !value.length))
      .map(([name, value]) => `${name.replaceAll('_', ' ')} ${typeof value === 'object' ? Object.entries(value as object).map(([at, key]) => (Array.isArray(value) ? key : `${at}: ${key}`)).join(', ') : value}`).join('; ')
</script>

<main id="content" tabindex="-1">
  {#each remotes ?? [] as remote (remote.name)}
    <section data-remote={remote.name} aria-label="Remote {remote.name}">
      <h2>{remote.name}{#if remote.kind.toLowerCase() !== remote.name}<span class="kind">{remote.kind}</span>{/if}</h2>
      <p class:down={!remote.up} class:wary={remote.up && remote.trouble}>{remote.up ? 'up' : 'away'}{#if remote.trouble}: {remote.trouble}{/if}{#if remote.peers.length}; there now: {remote.peers.join(', ')}{/if}{#if remote.errors}; {remote.errors} {remote.errors === 1 ? 'error' : 'errors'}{/if}</p>
      <p class="quiet">{#if remote.key}carries the key of {remote.key};{' '}{/if}{told(remote.facts)}</p>
      {#if remote.kind === 'keypad' && remote.facts.device === 'simulated' && live.role !== 'watch'}
        <details><summary>Press its keys</summary><Keypad of={String(remote.facts.opens)} word="Enter" enter={(code) => api.press(remote.name, `${code}#`)} /></details>
      {/if}
      <details ontoggle={async () => (maps[remote.name] ??= await api.remoteMap(remote.name))}>
        <summary>What its addresses stand for</summary>
        <table>
          <tbody>
            {#each maps[remote.name] ?? [] as row (row.address)}<tr><td><code>{row.address}</code></td><td>{row.name}</td><td class="quiet">{row.what}</td></tr>{:else}<tr><td>It has none.</td></tr>{/each}
          </tbody>
        </table>
      </details>
      <WireLog name={remote.name} read={(after) => api.remoteWire(remote.name, after)} />
    </section>
  {/each}
  {#if remotes?.every((remote) => remote.kind === 'HTTP')}
    <p>The site has no other remotes yet: a broker, a Modbus server, a serial line, control surfaces, web hooks or mail. Add a <code>[remote.…]</code> table to its file and start the service anew.</p>
  {/if}
</main>

<style>
  section { margin-bottom: 1.2rem; padding: 0.9rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 1.05rem; font-weight: 700; }
  .kind { margin-left: 0.7rem; color: var(--quiet); font-weight: 400; }
  .quiet { color: var(--quiet); font-size: 0.85rem; overflow-wrap: anywhere; }
  .down { color: var(--ill); font-weight: 600; }
  .wary { color: var(--wary); }
  details { margin: 0.5rem 0; font-size: 0.85rem; }
  summary { cursor: pointer; }
  td { padding: 0.1rem 1.2rem 0.1rem 0; vertical-align: top; }
</style>
