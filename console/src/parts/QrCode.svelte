<!-- A QR code from its rows of 0 and 1: dark on light in either mode, or a camera would not read it. -->
<script lang="ts">
  let { rows, label }: { rows: string[]; label: string } = $props()
  const QUIET = 4
  const path = $derived(rows.flatMap((row, y) => [...row].map((dark, x) => (dark === '1' ? `M${x + QUIET} ${y + QUIET}h1v1h-1z` : ''))).join(''))
  const size = $derived(rows.length + 2 * QUIET)
</script>

<svg viewBox="0 0 {size} {size}" role="img" aria-label={label} shape-rendering="crispEdges">
  <rect width={size} height={size} fill="#fff" />
  <path d={path} fill="#000" />
</svg>

<style>
  svg { width: 15rem; height: 15rem; flex: none; }
</style>
