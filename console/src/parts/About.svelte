<!-- Where the docs say more of the page that is open: pages of the service itself, under /help. -->
<script lang="ts">
  import { aboutPage, pageOf } from '../state/docs'

  let { at }: { at: string } = $props()
</script>

<nav class="about" aria-label="The docs on this page">
  <span>About this page:</span>
  {#each aboutPage(at) as said (said[0] + said[1])}<a href={pageOf(said)} target="_blank" rel="noopener">{said[2]}</a>{/each}
  <a href="help/" target="_blank" rel="noopener">All of the docs</a>
</nav>

<style>
  .about { display: flex; flex-wrap: wrap; gap: 0.3rem 1.2rem; align-items: center; margin-top: 1.5rem; padding-top: 0.4rem; border-top: 1px solid var(--line); font-size: 0.9rem; }
  span { color: var(--quiet); }
  a { min-height: 2.75rem; display: inline-flex; align-items: center; color: var(--on); text-decoration: underline; text-underline-offset: 3px; }
  @media print { .about { display: none; } }
</style>
