<!-- The page 'Help': every call of the API, as GET /api/v1/openapi.json describes it. -->
<script lang="ts">
  import * as api from '../state/api'
  import { attempt, live } from '../state/live.svelte'
  import PanelSetup from '../parts/PanelSetup.svelte'
  import type { Described, Operation, Shape } from '../state/types'

  let described = $state.raw<Described>()
  let sought = $state('')
  void attempt(async () => (described = await api.openapi()))

  const METHODS = ['get', 'post', 'put', 'patch', 'delete']
  const all = $derived(
    Object.entries(described?.paths ?? {}).flatMap(([path, methods]) =>
      METHODS.filter((method) => methods[method]).map((method) => ({ path, method: method.toUpperCase(), call: methods[method] })),
    ),
  )
  const shown = $derived(all.filter(({ path, method, call }) => `${method} ${path} ${call.summary}`.toLowerCase().includes(sought.toLowerCase())))
  const tags = $derived([...new Set(shown.map(({ call }) => call.tags[0]))])

  function said(shape: Shape | undefined, depth = 0): string {
    if (!shape) return ''
    if (shape.$ref) return shape.$ref.split('/').pop()!
    if (shape.anyOf ?? shape.oneOf) return (shape.anyOf ?? shape.oneOf)!.map((each) => said(each, depth)).join(' or ')
    if (shape.enum) return shape.enum.map((each) => JSON.stringify(each)).join(' | ')
    if (shape.items) return `list of ${said(shape.items, depth)}`
    if (shape.properties && depth < 2) {
      const names = Object.entries(shape.properties).map(([name, each]) => `${name}${shape.required?.includes(name) ? '' : '?'}: ${said(each, depth + 1)}`)
      return `{ ${names.join(', ')} }`
    }
    return [shape.type ?? 'anything'].flat().join(' | ')
  }
  const body = (call: Operation) => Object.entries(call.requestBody?.content ?? {}).map(([type, { schema }]) => (type === 'application/json' ? said(schema) : type)).join(' or ')
  const answer = (call: Operation) => Object.entries(call.responses).filter(([code]) => code !== 'default').map(([code, each]) => `${code} ${Object.entries(each.content ?? {}).map(([type, { schema }]) => (schema ? said(schema) : type)).join(' or ')}`).join('; ')
  const example = (call: Operation) => call.requestBody?.content['application/json']?.schema.examples?.[0]
  const curl = (path: string, method: string, call: Operation) =>
    `curl ${method === 'GET' ? '' : `-X ${method} `}-H "Authorization: Bearer $KEY" ${example(call) ? `-H 'Content-Type: application/json' -d '${JSON.stringify(example(call))}' ` : ''}${location.origin}/api/v1${call.parameters.reduce((at, each) => at.replace(`{${each.name}}`, String(each.example ?? each.name.toUpperCase())), path)}`
</script>

<main id="content" tabindex="-1">
  <PanelSetup />
  <p class="lead">Everything that this console does, it does by these calls; any program with a key can do the same. A description for programs: <a href="api/v1/openapi.json">openapi.json</a>.</p>
  <label class="find"><span>Find a call</span><input class="input" type="search" bind:value={sought} placeholder="claims" spellcheck="false" /></label>
  {#each tags as tag (tag)}
    <section aria-label={tag}>
      <h2>{tag}</h2>
      {#each shown.filter(({ call }) => call.tags[0] === tag) as { path, method, call } (method + path)}
        <details>
          <summary><code class="method">{method}</code><code>{path}</code><span class="role" class:not={call['x-role'] === 'keep' && !live.keeps}>{call['x-role']}</span><span class="says">{call.summary}</span></summary>
          <dl>
            {#each call.parameters as each (each.name)}<dt>{each.in} {each.name}</dt><dd>{said(each.schema)}</dd>{/each}
            {#if call.requestBody}<dt>takes</dt><dd>{body(call)}</dd>{/if}
            <dt>answers</dt><dd>{answer(call)}</dd>
            <dt>try</dt><dd><code>{curl(path, method, call)}</code></dd>
          </dl>
        </details>
      {/each}
    </section>
  {:else}
    {#if described}<p>No call is like that.</p>{/if}
  {/each}
</main>

<style>
  .lead { margin-bottom: 0.8rem; }
  .lead a { text-decoration: underline; }
  .find { display: block; max-width: 24rem; margin-bottom: 1rem; }
  .find span { display: block; font-size: 0.8rem; color: var(--quiet); }
  section { margin-bottom: 0.9rem; padding: 0.7rem 1.1rem; background: var(--stone); border: 1px solid var(--line); border-radius: var(--radius-container); }
  h2 { font-size: 0.8rem; letter-spacing: 0.09em; text-transform: uppercase; color: var(--quiet); margin-bottom: 0.2rem; }
  details { border-top: 1px solid var(--line); padding: 0.3rem 0; }
  summary { cursor: pointer; display: grid; grid-template-columns: 4.4rem minmax(12rem, 24rem) 4.5rem 1fr; gap: 0.2rem 0.8rem; align-items: baseline; }
  code { background: none; padding: 0; overflow-wrap: anywhere; }
  dd code { white-space: pre-wrap; }
  .method { font-weight: 700; color: var(--well); }
  .role { color: var(--quiet); font-size: 0.85rem; }
  .role.not { text-decoration: line-through; }
  .says { font-size: 0.9rem; }
  dl { display: grid; grid-template-columns: minmax(4rem, auto) minmax(0, 1fr); gap: 0.15rem 0.9rem; margin: 0.5rem 0 0.6rem 1rem; font-size: 0.83rem; }
  dt { color: var(--quiet); max-width: 14rem; }
  dd { overflow-wrap: anywhere; }
  @media (max-width: 46rem) { summary { grid-template-columns: auto 1fr auto; } .says { grid-column: 1 / -1; } }
</style>
