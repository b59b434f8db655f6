<!-- What is wrong, first: what stopped everything, trips, alarms (those that somebody has seen too, until they are over), lost boards,
     what is held back. Each says what to do and who may. -->
<script lang="ts">
  import * as api from '../state/api'
  import { name as myName } from '../state/kept.svelte'
  import { attempt, clock, day, live } from '../state/live.svelte'
  import { panel } from '../state/panel.svelte'
  import { aside } from '../state/words'

  let { all = true }: { all?: boolean } = $props()

  let sure = $state(false)
  let asked = $state('')
  let refused = $state('')
  let by = $state(myName.now)
  const stop = $derived(live.site?.all_stop)
  const trips = $derived(live.site?.trips ?? [])
  const alarms = $derived([...(live.site?.alarms ?? [])].sort((a, b) => Number(!!a.acknowledged_by) - Number(!!b.acknowledged_by)))
  const suspended = $derived(live.site?.suspended ?? [])
  const lockouts = $derived(live.site?.lockouts ?? [])
  const down = $derived(Object.values(live.boards).filter((board) => !board.up))
  const held = $derived(Object.values(live.outputs).filter((output) => ['blocked', 'fault', 'retrying'].includes(output.state) && !['all-stop', 'trip', 'lockout'].includes(output.gate)))
  const operates = $derived(!live.lost && live.role !== 'watch')

  /** What comes on again by itself once a gate of this kind lets it. */
  const returning = (gate: string, among?: string[]) =>
    Object.values(live.outputs).filter((output) => output.gate === gate && output.wanted.on && (!among || among.includes(output.name))).map((output) => `${output.label} ${output.wanted.words}`)
  const after = (again: string[]) => (again.length ? `After the reset these are on again: ${again.join(', ')}.` : 'After the reset nothing comes on by itself.')
  const labels = (names: string[]) => (names.length > 6 ? `${names.length} outputs` : names.map((name) => live.outputs[name]?.label ?? name).join(', '))

  async function named(what: (name: string) => Promise<unknown>): Promise<void> {
    myName.now = by.trim()
    refused = await api.refusal(() => what(by.trim()))
    if (!refused) asked = ''
  }
</script>

{#snippet sign(what: string, word: string, does: (name: string) => Promise<unknown>)}
  {#if asked === what}
    <form class="sign" onsubmit={(event) => { event.preventDefault(); void named(does) }}>
      <!-- svelte-ignore a11y_autofocus -->
      <label>Your name <input class="input" bind:value={by} autocomplete="name" maxlength="60" autofocus={!by} /></label>
      <button type="submit" class="btn preset-filled-error-500" disabled={!by.trim()}>{word}</button>
      <button type="button" class="btn preset-tonal-surface" onclick={() => (asked = refused = '')}>Not now</button>
      {#if refused}<p class="refused" role="alert">{refused}</p>{/if}
    </form>
  {:else}
    <button type="button" class="btn preset-outlined-surface-500" onclick={() => { asked = what; refused = '' }}>{word} …</button>
  {/if}
{/snippet}

{#if stop?.stopped}
  <section class="band" aria-label="All-stop">
    <p role="status"><strong>Everything is stopped</strong> since {clock(stop.since)} by the {stop.by}{stop.reason ? `: ${stop.reason}` : ''}. {after(returning('all-stop'))}</p>
    {#if !live.keeps}<p class="who">A keeper's key resets it.</p>
    {:else if !sure}<button type="button" class="btn preset-outlined-surface-50-950" disabled={live.lost} onclick={() => (sure = true)}>Reset all-stop …</button>
    {:else}
      <span class="pair" role="group" aria-label="Reset the all-stop?">
        <button type="button" class="btn preset-filled-surface-50-950" disabled={live.lost} onclick={() => { sure = false; void attempt(api.resetStop) }}>Reset now</button>
        <button type="button" class="btn preset-outlined-surface-50-950" onclick={() => (sure = false)}>Keep stopped</button>
      </span>
    {/if}
  </section>
{/if}

{#each trips as trip (trip.name)}
  <section class="band" aria-label="Tripped: {trip.name}" data-trip={trip.name}>
    <p role="status"><strong>Tripped: {trip.name}</strong> since {clock(trip.since)}: {trip.cause}. {labels(trip.outputs)} {trip.outputs.length === 1 ? 'stays' : 'stay'} safe. {after(returning('trip', trip.outputs))}</p>
    {#if operates}{@render sign(`trip ${trip.name}`, `Reset ${trip.name}`, (name) => api.resetTrip(trip.name, name))}{/if}
  </section>
{/each}

{#if all && (alarms.length || suspended.length || down.length || held.length || lockouts.length || live.site?.clock || live.site?.trouble || (live.site && !live.site.recording))}
  <section class="list" aria-label="To be seen to">
    <h2>To be seen to{#if !panel.locked}<a href="help/when-things-fail.html" target="_blank" rel="noopener">When something fails</a>{/if}</h2>
    <ul>
      {#if live.site && !live.site.recording}<li class="ill"><span><strong>The journal cannot be written</strong>: {live.site.trouble}. Only what goes off is done.</span></li>{:else if live.site?.trouble}<li><span><strong>The journal may soon not be written</strong>: {live.site.trouble}.</span></li>{/if}
      {#if live.site?.clock}<li class="ill"><span><strong>The clock is not believed</strong>: {live.site.clock}</span></li>{/if}
      {#each alarms as alarm (alarm.name)}
        <li class:ill={alarm.severity === 'urgent' && !alarm.acknowledged_by} class:seen={alarm.acknowledged_by} data-alarm={alarm.name}>
          <span><strong>{alarm.name}</strong> ({alarm.severity}) since {clock(alarm.since)}: {alarm.cause}{alarm.still_so ? '' : ', but no longer so'}.{alarm.acknowledged_by ? ` Seen by ${alarm.acknowledged_by}.` : ''}</span>
          {#if operates && !alarm.acknowledged_by}{@render sign(`alarm ${alarm.name}`, 'Acknowledge', (name) => api.acknowledge(alarm.name, name))}{/if}
        </li>
      {/each}
      {#each down as board (board.name)}
        <li data-board={board.name}><span><strong>{board.label}</strong> does not answer since {clock(board.since)}: {board.reason}.</span> {#if !panel.locked}<a class="btn preset-outlined-surface-500" href="#site/boards/{encodeURIComponent(board.name)}">See its wire</a>{/if}</li>
      {/each}
      {#each lockouts as tag (`${tag.output} ${tag.name}`)}
        <li data-lockout={tag.output}><span><strong>{live.outputs[tag.output]?.label ?? tag.output}</strong> is locked out by tag '{tag.name}' ({tag.by}){tag.reason ? `: ${tag.reason}` : ''}{tag.until ? `; meant to come off ${day(tag.until)}` : ''}.</span>
          {#if operates && live.may(tag.output)}<button type="button" class="btn preset-outlined-surface-500" onclick={() => attempt(() => api.unlock(tag.output, tag.name))}>Take the tag off</button>{/if}
        </li>
      {/each}
      {#each held as output (output.name)}
        <li data-held={output.name}><span><strong>{output.label}</strong> is {output.confirmed?.words ?? 'not known'} and wanted {output.wanted.words}; {aside(output)}.</span></li>
      {/each}
      {#each suspended as each (each.reflex)}
        <li><span><strong>Suspended: {each.reflex}</strong>: {each.why}.</span>
          {#if operates}<button type="button" class="btn preset-outlined-surface-500" onclick={() => attempt(() => api.resume(each.reflex))}>Let it work again</button>{/if}
        </li>
      {/each}
    </ul>
  </section>
{/if}

<style>
  .band { display: flex; flex-wrap: wrap; align-items: center; justify-content: space-between; gap: 0.6rem 1.2rem; margin-bottom: 0.8rem; padding: 0.8rem 1.1rem; color: #fff; background: var(--stop); border-radius: var(--radius-container); }
  .band p { flex: 1 1 20rem; line-height: 1.45; }
  .band :global(.btn) { color: #fff; border: 1.5px solid #fff; background: transparent; min-height: 2.75rem; }
  .band :global(.btn[type='submit']), .band .pair :global(.btn:first-child) { background: #fff; color: var(--color-surface-950); }
  .band :global(.btn:disabled) { opacity: 0.6; }
  .band .who { flex: none; }
  .pair { display: inline-flex; flex-wrap: wrap; gap: 0.5rem; }
  .sign { display: flex; flex-wrap: wrap; align-items: end; gap: 0.5rem; }
  .refused { flex-basis: 100%; font-weight: 600; }
  .sign label { font-size: 0.8rem; }
  .sign .input { display: block; width: 12rem; min-height: 2.75rem; background: var(--stone); color: var(--ink); }
  .list { margin-bottom: 1.1rem; padding: 0.8rem 1.1rem 0.6rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 0.95rem; font-weight: 650; margin-bottom: 0.3rem; }
  h2 a { margin-left: 1rem; font-size: 0.85rem; font-weight: 400; color: var(--on); text-decoration: underline; text-underline-offset: 3px; }
  li { display: flex; flex-wrap: wrap; align-items: center; justify-content: space-between; gap: 0.4rem 1rem; padding: 0.5rem 0 0.5rem 0.8rem; margin-top: 0.3rem; border-left: 5px solid var(--wary); line-height: 1.4; }
  li.ill { border-color: var(--ill); }
  li.seen { border-color: var(--line); color: var(--soft); }
  li span { flex: 1 1 18rem; overflow-wrap: anywhere; }
  li :global(.btn) { min-height: 2.75rem; }
</style>
