<!-- The page 'Sites': other sites of which something is used here, and those that use something of this one. It shows GET /api/v1/sites. -->
<script lang="ts">
  import * as api from '../state/api'
  import type { Sites } from '../state/types'

  let sites = $state<Sites>()
  let there = $state<Sites['there']>()
  let looking = $state(false)

  $effect(() => {
    const read = async () => (sites = await api.sites().catch(() => sites))
    void read()
    const timer = setInterval(read, 1500)
    return () => clearInterval(timer)
  })

  const look = async () => {
    looking = true
    there = (await api.sites(true).catch(() => undefined))?.there
    looking = false
  }
</script>

<main id="content" tabindex="-1">
  {#if sites && !sites.broker}
    <p>Sites meet at a message broker, and this one has none. Its file says where: <code>[remote.broker]</code>. Another site's outputs and inputs are then a board here, and ours may be one there.</p>
  {:else if sites}
    <p class:down={!sites.up}><strong>{sites.own}</strong>, at the broker {sites.broker}{#if sites.trouble}: {sites.trouble}{/if}</p>
    {#each sites.used as used (used.board)}
      <section data-site={used.site} aria-label="Used of {used.site}">
        <h2>{used.site}<span class="kind">used here, as board <a href="#site/boards/{encodeURIComponent(used.board)}">{used.board}</a></span></h2>
        <p class:down={!used.up}>{used.up ? 'up' : `away: ${used.reason}`}{#if used.delay !== null}; answers in {used.delay} ms{/if}; lease {used.lease} s</p>
        <table>
          <thead><tr><th>there</th><th>here</th><th>is</th><th></th></tr></thead>
          <tbody>
            {#each used.takes as each (each.name)}<tr><td>{each.name}</td><td>{#if each.here}{each.here}{:else}<span class="quiet">not wired here</span>{/if}</td><td>{each.shows}</td><td class="wary">{each.trouble}</td></tr>{/each}
          </tbody>
        </table>
      </section>
    {/each}
    {#each sites.using as using (using.remote)}
      <section data-site={using.site} aria-label="{using.site} uses ours">
        <h2>{using.site}<span class="kind">uses ours, with the key of {using.key}, as {using.rank}</span></h2>
        <p class:down={!using.up}>{using.up ? 'up' : `away: ${using.trouble}`}{#if using.heard !== null}; heard {using.heard} s ago{/if}</p>
        {#if using.takes.length}
          <table>
            <thead><tr><th>ours</th><th>it wants</th></tr></thead>
            <tbody>{#each using.takes as each (each)}<tr><td>{each}</td><td>{using.wants[each] ?? ''}</td></tr>{/each}</tbody>
          </table>
        {/if}
      </section>
    {/each}
    {#if !sites.used.length && !sites.using.length}<p>It uses nothing of another site, and none uses anything of it.</p>{/if}
    <p><button class="btn preset-outlined" onclick={look} disabled={looking}>Who is at the broker?</button></p>
    {#if there}<ul aria-label="At the broker">{#each there as each (each.topic)}<li class:down={!each.here}>{each.topic}{#if !each.here}: gone{/if}</li>{:else}<li>Nobody has left word there.</li>{/each}</ul>{/if}
  {/if}
</main>

<style>
  section { margin: 1.2rem 0; padding: 0.9rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 1.05rem; font-weight: 700; }
  .kind { margin-left: 0.7rem; color: var(--quiet); font-weight: 400; }
  .quiet, th { color: var(--quiet); font-weight: 400; }
  .down { color: var(--ill); font-weight: 600; }
  .wary { color: var(--wary); }
  table { margin-top: 0.5rem; font-size: 0.9rem; }
  th, td { padding: 0.15rem 1.6rem 0.15rem 0; vertical-align: top; text-align: left; }
</style>
