// The API's forms, as far as the console shows them.

export interface Setting { level: number; on: boolean; words: string }
export interface Output {
  name: string; label: string; place: string; kind: string; pin: string; line: number; board: string
  dimmable: boolean; state: 'confirmed' | 'driving' | 'retrying' | 'blocked' | 'unreachable' | 'fault'
  wanted: Setting; allowed: Setting; driven: Setting | null; confirmed: Setting | null
  by: string; gate: string; reason: string; claims: { id: number; rank: string }[]
}
export interface Input { name: string; label: string; place: string; state: string; active: boolean | null; since: string | null; board: string }
export interface Board { name: string; label: string; up: boolean; reason: string; since: string | null }
export interface Site {
  name: string; timezone: string; recording: boolean; trouble: string
  all_stop: { stopped: boolean; since?: string; by?: string; reason?: string }
}
export interface Picture { site: Site; outputs: Output[]; inputs: Input[]; boards: Board[] }
export interface Why { output: string; sentence: string; remedy: string; steps: { stage: string; text: string }[] }
export interface Ending { command: string; output: string | null; ending: string; text: string }
