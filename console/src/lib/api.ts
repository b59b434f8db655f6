// Every address of the service that the console uses. No component knows any.

import type { BoardWhole, PinForm, Tried, Wire, Why } from './types'

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
const board = (name: string) => `/boards/${encodeURIComponent(name)}`
const trial = (name: string, pin: string) => `${board(name)}/pins/${encodeURIComponent(pin)}/trial`
export const boardWhole = (name: string): Promise<BoardWhole> => call('GET', board(name))
export const pins = (name: string): Promise<PinForm[]> => call('GET', `${board(name)}/pins`)
export const wire = (name: string, after: number): Promise<Wire> => call('GET', `${board(name)}/traffic?after=${after}`)
export const tryPin = (name: string, pin: string, how: Record<string, string>): Promise<Tried> => call('PUT', trial(name, pin), how)
export const endTry = (name: string, pin: string) => call('DELETE', trial(name, pin))
export const pretend = (input: string, how: Record<string, string>) => call('PUT', `/inputs/${input}/simulated`, how)
export const signIn = (token: string) => call('POST', '/session', { token })
export const signOut = () => call('DELETE', '/session')
export const who = (): Promise<{ key: string; role: string }> => call('GET', '/session')
export const events = () => new EventSource(`${V1}/events`)
