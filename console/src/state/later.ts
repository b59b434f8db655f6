// What is asked a moment after something was typed or chosen: of several questions under way only the last one's answer counts.

/** For an effect: asks after so many milliseconds; what is returned takes that back, and whatever is answered then is passed over. */
export function later<T>(wait: number, ask: () => Promise<T>, found: (its: T) => void, failed: (error: unknown) => void = () => {}): () => void {
  let over = false
  const timer = setTimeout(async () => {
    try {
      const its = await ask()
      if (!over) found(its)
    } catch (error) {
      if (!over) failed(error)
    }
  }, wait)
  return () => {
    over = true
    clearTimeout(timer)
  }
}
