// What is read again and again while a page is open. An answer that comes after it was closed, or when something else is asked for, is nobody's.

import { Problem } from './api'

/** Read now, and `rest` milliseconds after each answer; returns what ends it. That the service is away the page says already. */
export function again<T>(rest: number, read: () => Promise<T>, show: (found: T) => void): () => void {
  let open = true
  let timer: ReturnType<typeof setTimeout>
  const look = async () => {
    try {
      const found = await read()
      if (open) show(found)
    } catch (error) {
      if (!(error instanceof Problem)) throw error
    }
    if (open) timer = setTimeout(look, rest)
  }
  timer = setTimeout(look)
  return () => {
    open = false
    clearTimeout(timer)
  }
}
