// The API's forms, as it describes them (described.d.ts is made from that by `make lint`), under the names that the console has for them.

import type * as api from './described'

export type {
  Alarm, Bar, Board, BoardWhole, Circuit, Code, Curve, Difference, DraftForm, Dry, Edition, EditionWhole, Examined, Fit, FitRow, Frame, Input, Key, MapRow, Offer, Offers, Output, Pad, Pairing, PinForm, Plan, Preview,
  Reading, Readings, Reckoned, Remote, Rule, Schedule, Session, Setting, Sheet, Signal, Signals, Site, SiteChanges, SitePreview, Sites, Sum, Supply, Trial, Trip, Tune, Why,
} from './described'
export type Answer = api.Answered
export type CalendarLine = api.TakenEvent
export type Decided = api.Trace
export type Ending = api.Ended
export type JournalRow = api.Row
export type Rehearsal = api.Rehearsed
export type Timed = api.Timer
export type Timer = api.TimerChip
export type Tried = api.TriedPin
export type UsageDay = api.Usage
export type Wire = api.Traffic
export type SignalKind = api.Signal['kind']

// What no answer has by itself: pictures put together, the description of the API, programs that are being written.

export interface Picture { site: api.Site; outputs: api.Output[]; inputs: api.Input[]; boards: api.Board[] }
export interface Shape {
  $ref?: string; type?: string | string[]; enum?: unknown[]; items?: Shape; anyOf?: Shape[]; oneOf?: Shape[]; properties?: Record<string, Shape>
  required?: string[]; examples?: unknown[]
}
export interface Operation {
  summary: string; tags: string[]; 'x-role': string; parameters: { name: string; in: string; schema: Shape; example?: unknown }[]
  requestBody?: { content: Record<string, { schema: Shape }> }; responses: Record<string, { content?: Record<string, { schema?: Shape }> }>
}
export interface Described { paths: Record<string, Record<string, Operation>> }
export type ProgramForm = Record<string, string | number>
