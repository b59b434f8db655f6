<!-- The way out of a panel: its code. -->
<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte'
  import Lock from '@lucide/svelte/icons/lock'
  import X from '@lucide/svelte/icons/x'
  import { panel } from '../state/panel.svelte'
  import Keypad from './Keypad.svelte'

  let asking = $state(false)
  const enter = async (code: string) => ((await panel.open(code)) ? '' : 'This is not the code of the panel. It was chosen when it was made one.')
</script>

<button type="button" onclick={() => (asking = true)} aria-label="Leave the panel"><Lock size={20} aria-hidden="true" /></button>

<Dialog open={asking} onOpenChange={(change) => (asking = change.open)}>
  <Portal>
    <Dialog.Backdrop class="sheet-back" />
    <Dialog.Positioner class="leave-place">
      <Dialog.Content class="leave">
        <header>
          <Dialog.Title class="sheet-title">Leave the panel</Dialog.Title>
          <Dialog.CloseTrigger class="icon" aria-label="Close"><X size={22} aria-hidden="true" /></Dialog.CloseTrigger>
        </header>
        <Keypad of="the panel" word="Leave" {enter} />
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>

<style>
  header { display: flex; justify-content: space-between; align-items: center; gap: 1rem; }
  :global(.leave-place) { position: fixed; inset: 0; display: grid; place-items: center; z-index: 70; padding: 0.5rem; pointer-events: none; }
  :global(.leave) { pointer-events: auto; max-height: 100%; overflow: auto; padding: 0.8rem 1.1rem; background: var(--stone); color: var(--ink); border: 1px solid var(--line); border-radius: var(--radius-container); }
  :global(.leave .icon) { width: 2.75rem; height: 2.75rem; display: grid; place-items: center; }
</style>
