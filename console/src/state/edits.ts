// Changes of the site file as they are sent, and their values as people type them.

export interface Edit { do: 'add' | 'change' | 'rename' | 'remove'; what: string; name?: string; keys?: Record<string, unknown>; to?: string }

/** Kinds of things that a site file has, in the order in which one is made. */
export const WHAT = ['output', 'outputs', 'input', 'board', 'supply', 'interlock', 'reflex', 'regulator', 'alarm', 'guard', 'schedule', 'scene', 'group', 'tune', 'pad', 'remote', 'quiet', 'service', 'site']

/** A value as it was typed: numbers, truths, lists and tables; all else is a text. */
export function read(text: string): unknown {
  const said = text.trim()
  if (/^(true|false|-?\d+(\.\d+)?)$/.test(said)) return JSON.parse(said)
  if (/^[[{"]/.test(said)) {
    try {
      return JSON.parse(said.replace(/([{,]\s*)([\w-]+)\s*=/g, '$1"$2":'))
    } catch {
      // it is shown what is wrong with it
    }
  }
  return text
}

/** The same, as it is shown in a field. */
export const shown = (value: unknown) => (typeof value === 'string' ? value : value === undefined || value === null ? '' : JSON.stringify(value))
