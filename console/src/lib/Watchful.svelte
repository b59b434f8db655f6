<!-- What somebody has to see to: trips, alarms and suspended reflexes. Each is answered by a person with a name,
     which is kept for the next time. It shows GET /api/v1/trips and GET /api/v1/alarms. -->
<script lang="ts">
  import * as api from './api'
  import { attempt, clock, live } from './live.svelte'

  let by = $state(localStorage.getItem('name') ?? '')
  const trips = $derived(live.site?.trips ?? [])
  const alarms = $derived((live.site?.alarms ?? []).filter((alarm) => !alarm.acknowledged_by))
  const suspended = $derived(live.site?.suspended ?? [])

  function named(what: (name: string) => Promise<unknown>) {
    localStorage.setItem('name', by)
    return attempt(() => what(by))
  }
</script>

{#if trips.length || alarms.length || suspended.length}
  <section class="watchful" aria-label="To be seen to">
    {#if trips.length || alarms.length}
      <label class="by">Your name <input class="input" bind:value={by} autocomplete="name" maxlength="60" placeholder="who sees to it" /></label>
    {/if}
    <ul>
      {#each trips as trip (trip.name)}
        <li class="ill" data-trip={trip.name}>
          <span><strong>Tripped: {trip.name}</strong> since {clock(trip.since)}: {trip.cause}. {trip.outputs.length > 6 ? 'Everything' : trip.outputs.join(', ')} stays safe.</span>
          <button type="button" class="btn btn-sm preset-filled-error-500" disabled={!by.trim()} onclick={() => named((name) => api.resetTrip(trip.name, name))}>Reset {trip.name}</button>
        </li>
      {/each}
      {#each alarms as alarm (alarm.name)}
        <li class={alarm.severity === 'urgent' ? 'ill' : 'wary'} data-alarm={alarm.name}>
          <span><strong>{alarm.name}</strong> ({alarm.severity}) since {clock(alarm.since)}: {alarm.cause}{alarm.still_so ? '' : ', but no longer so'}.</span>
          <button type="button" class="btn btn-sm preset-outlined-surface-500" disabled={!by.trim()} onclick={() => named((name) => api.acknowledge(alarm.name, name))}>Acknowledge</button>
        </li>
      {/each}
      {#each suspended as each (each.reflex)}
        <li class="wary">
          <span><strong>Suspended: {each.reflex}</strong>: {each.why}.</span>
          <button type="button" class="btn btn-sm preset-outlined-surface-500" onclick={() => attempt(() => api.resume(each.reflex))}>Let it work again</button>
        </li>
      {/each}
    </ul>
  </section>
{/if}

<style>
  .watchful { margin-bottom: 1rem; padding: 0.7rem 0.9rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  .by { display: flex; align-items: center; gap: 0.6rem; margin-bottom: 0.5rem; font-size: 0.85rem; color: var(--quiet); }
  .by input { max-width: 14rem; }
  li { display: flex; flex-wrap: wrap; align-items: center; justify-content: space-between; gap: 0.4rem 1rem; padding: 0.45rem 0 0.45rem 0.7rem; border-left: 5px solid var(--wary); margin-top: 0.35rem; }
  li.ill { border-color: var(--ill); }
  li span { flex: 1 1 18rem; }
</style>
