// In the place of @zag-js/focus-trap (vite.config.ts): no dialog of ours keeps the focus, so what would keep it is not loaded.

export const trapFocus = () => () => undefined
