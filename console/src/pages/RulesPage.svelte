<!-- The page 'Rules': what must never be and what follows from what, as GET /api/v1/rules tells it, and a line for
     questions (POST /api/v1/questions). -->
<script lang="ts">
  import * as api from '../state/api'
  import { Problem } from '../state/api'
  import { live } from '../state/live.svelte'
  import type { Answer, Rule } from '../state/types'

  const OTHERS: [string, string[]][] = [
    ['Opens with a passcode', ['guard']],
    ['Follows by itself', ['reflex', 'regulator']],
    ['Somebody is told', ['alarm']],
  ]
  let rules = $state<Rule[]>([])
  // whatever is none of those is an interlock, of which kind it may be
  const heads = $derived<[string, Rule[]][]>([
    ['Must never be', rules.filter((rule) => !OTHERS.some(([, kinds]) => kinds.includes(rule.kind)))],
    ...OTHERS.map(([head, kinds]): [string, Rule[]] => [head, rules.filter((rule) => kinds.includes(rule.kind))]),
  ])
  let question = $state('')
  let answer = $state<Answer>()
  let trouble = $state('')

  $effect(() => {
    void live.site // a trip, an alarm or a suspended reflex changes how a rule stands
    api.rules().then((found) => (rules = found))
  })

  async function ask(event: Event) {
    event.preventDefault()
    answer = undefined
    try {
      answer = await api.ask(question)
      trouble = ''
    } catch (error) {
      if (!(error instanceof Problem)) throw error
      trouble = `${error.sentence} ${error.remedy}`
    }
  }
</script>

<main id="content" tabindex="-1">
  <form class="ask" onsubmit={ask}>
    <label>
      <span>Ask what is so</span>
      <input class="input" bind:value={question} placeholder="kiln-vent is on for 30 s and kiln-door is closed" spellcheck="false" />
    </label>
    <button type="submit" class="btn preset-filled-primary-500" disabled={!question.trim()}>Ask</button>
    <p role="status" class:ill={trouble}>
      {#if trouble}{trouble}{:else if answer}<strong>{answer.so === null ? 'Not known' : answer.so ? 'Yes' : 'No'}</strong>: {answer.so ? answer.question : answer.instead.join(' and ')}{/if}
    </p>
  </form>
  {#each heads as [head, some] (head)}
    {#if some.length}
      <section>
        <h2>{head}</h2>
        <ul>
          {#each some as rule (rule.kind + rule.name)}
            <li data-rule={rule.name}>
              <span class="name">{rule.name}</span>
              <span class="kind">{rule.kind}</span>
              <span class="text">{rule.text}</span>
              {#if rule.left}<span class="left" class:ill={rule.state === 'used up'}>{rule.left.text}</span>{/if}
              {#if rule.state !== 'in force' && rule.state !== 'quiet'}<span class="state">{rule.state}</span>{/if}
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  {/each}
  {#if !rules.length}<p>The site has no rules yet. Add <code>[[interlock]]</code> tables to its file and start the service anew.</p>{/if}
</main>

<style>
  .ask { display: grid; grid-template-columns: 1fr auto; gap: 0.4rem 0.7rem; align-items: end; margin-bottom: 1.2rem; }
  .ask label span { display: block; font-size: 0.8rem; color: var(--quiet); margin-bottom: 0.2rem; }
  .ask p { grid-column: 1 / -1; min-height: 1.4em; }
  .ill { color: var(--ill); }
  section { margin-bottom: 1.2rem; padding: 0.9rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 1.05rem; font-weight: 700; margin-bottom: 0.3rem; }
  li { display: grid; grid-template-columns: minmax(9rem, 16rem) 5.5rem 1fr; gap: 0.1rem 1rem; padding: 0.45rem 0; border-top: 1px solid var(--line); }
  .name { font-weight: 600; }
  .kind { color: var(--quiet); }
  .left { grid-column: 3; font-size: 0.9rem; color: var(--quiet); }
  .left.ill { color: var(--ill); }
  .state { grid-column: 3; color: var(--ill); font-weight: 600; }
  @media (max-width: 40rem) { li { grid-template-columns: 1fr auto; } .text, .left, .state { grid-column: 1 / -1; } }
</style>
