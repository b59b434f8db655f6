// Every address of the service that the console uses. No component knows any.

import type { Why } from './types'

const V1 = '/api/v1'

export class Problem extends Error {
  constructor(readonly code: string, readonly sentence: string, readonly remedy: string) {
    super(sentence)
  }
}

async function call(method: string, path: string, body?: unknown): Promise<any> {
  let response: Response
  try {
    response = await fetch(V1 + path, {
      method,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
    throw new Problem('no-service', 'The service does not answer.', 'Nothing was done. Try again when the link is back.')
  }
  const form = await response.json().catch(() => ({}))
  if (!response.ok) throw new Problem(form.code ?? 'engine', form.detail ?? response.statusText, form.remedy ?? '')
  return form
}

export const turn = (output: string, setting: string | number) => call('POST', '/claims', { output, setting })
export const release = (output: string) => call('DELETE', `/outputs/${output}/claim`)
export const stop = () => call('PUT', '/all-stop', {})
export const resetStop = () => call('DELETE', '/all-stop')
export const why = (output: string): Promise<Why> => call('GET', `/outputs/${output}/why`)
export const signIn = (token: string) => call('POST', '/session', { token })
export const signOut = () => call('DELETE', '/session')
export const who = (): Promise<{ key: string; role: string }> => call('GET', '/session')
export const events = () => new EventSource(`${V1}/events`)
