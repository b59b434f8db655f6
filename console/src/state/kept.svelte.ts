// What this browser keeps for whoever uses it: pinned outputs, folded places, their name. Nothing of it is a secret.

export function kept<T>(name: string, usual: T) {
  const key = `cairnwind-${name}`
  let found = usual
  try {
    found = JSON.parse(localStorage.getItem(key) ?? 'null') ?? usual
  } catch {
    // somebody else's
  }
  const state = $state({ now: found })
  return {
    get now(): T {
      return state.now as T
    },
    set now(value: T) {
      state.now = value as typeof state.now
      localStorage.setItem(key, JSON.stringify(value))
    },
  }
}

export const pinned = kept<string[]>('pinned', [])
export const folded = kept<string[]>('folded', [])
export const name = kept('name', '')
/** How often each output was used here. */
export const used = kept<Record<string, number>>('used', {})
export const use = (output: string) => (used.now = { ...used.now, [output]: (used.now[output] ?? 0) + 1 })
export const flip = (list: { now: string[] }, one: string) => (list.now = list.now.includes(one) ? list.now.filter((each) => each !== one) : [...list.now, one])
