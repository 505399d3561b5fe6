/** What a workplace app offers beside what every connection does: its objects, and writing single records; and what of that tables offer, too. */
import { Failure } from '@tide/core/failure'
import type { WebhookSigning } from '@tide/core/app/description'
import type { Made, MadeJoin } from '@tide/core/app/made'
import type { AppField, AppObject, WriteAnswer, WriteOperation } from '@tide/core/app/object'

/** The app has refused a call as a whole: nothing of it was done. */
export class NotDone extends Failure {
  constructor(message: string, remedy: string) {
    super('structural', message, remedy)
  }
}

/** A record by its fields' names: canonical text; what is nested is its JSON. */
export type AppRecord = Record<string, string | null>

/** One side of what is kept in step: an app with its objects, or a database with its tables. */
export interface PlaceSide {
  /** What the app is called. */
  name: string
  /** So many operations go into one call. */
  mostTogether(object: string): number
  /** What it takes to look at it is counted in calls. */
  countsCalls: boolean
  /** Calls that it puts up with in a minute; null: it does not say. */
  perMinute: number | null
  /** A call that was told of once is not carried out again when its key comes a second time. */
  knowsRepeats: boolean
  objects(): Promise<AppObject[]>
  /** All records, page by page; `fields`: with just these values. */
  list(object: string, asked: ListAsked): AsyncGenerator<AppRecord[]>
  /**
   * Records that have changed since the cursor, page by page, and after the last of them the cursor for the next time; the first time, and where the
   * app does not tell changes: all. What was told is not told again before it changes. `gone`: keys of those that were deleted, where that is told;
   * where it is not, they are those that the list has no longer. `anew`: what came since the cursor is not known any more, and all were told. `known`:
   * records of the object are known by their keys already, whatever the cursor says.
   */
  changes(
    object: string,
    cursor: string | null,
    signal: AbortSignal,
    known?: boolean,
  ): AsyncGenerator<ToldChanges>
  /** Puts at the object what it takes to know its records again, where none of them is known yet. */
  prepare?(object: string, signal: AbortSignal): Promise<void>
  /** Nobody asks for what comes before the cursor any more. */
  taken?(object: string, cursor: string): Promise<void>
  /** Resolves when something has changed that was not told yet, or when the signal aborts; absent: that is not known before it is asked. */
  news?(signal: AbortSignal): Promise<void>
  /** Up to when it is known that all changes were told, in milliseconds; null: it is not known now; absent: up to when it was asked. */
  completeUpTo?(): number | null
  /** undefined: there is none. */
  read(object: string, id: string, signal: AbortSignal): Promise<AppRecord | undefined>
  /**
   * An answer for each operation, in their order. Throws a transient Failure when it is not known what has become of them; the same may then be sent
   * again with the same `once`.
   */
  write(
    object: string,
    operations: readonly WriteOperation[],
    asked: { once: string; signal: AbortSignal },
  ): Promise<WriteAnswer[]>
  /** Tables and fields can be made; `inSchemas`: in which schema, is asked. undefined: they cannot. */
  makes: { inSchemas: boolean } | undefined
  /** What is made for records of another place, and how; nothing is made by asking. */
  toMake(asked: MakeAsked): Promise<ToMake>
  /** How the app signs its webhooks; undefined: it calls nobody. */
  webhooks: WebhookSigning | undefined
  /** Has the app call an address when a record of the object has changed; returns the key of the subscription. */
  subscribe(object: string, asked: { url: string; secret: string; signal: AbortSignal }): Promise<string>
  /** One that is gone already is gone. */
  unsubscribe(subscription: string, signal: AbortSignal): Promise<void>
  /** What was put at the system for the sake of this is taken off. */
  end?(): Promise<void>
  /** It is not used any more. */
  close?(): Promise<void>
}

export interface MakeAsked {
  /** A new place, in the schema if there are any; or one that is there. */
  into: { table: string; schema: string | null } | { place: string }
  /** Fields of the other place: each gets one, if there is a type that holds it. */
  fields: readonly AppField[]
  /** The name of the field that gets the key of the other half; null: none does. */
  link: string | null
}

export interface ToMake {
  /** Statements or calls by which it is made. */
  calls: string[]
  /** By field of the other place: what its own is called. `asNumber`: truth values are 1 and 0 there. */
  joins: MadeJoin[]
  link: string | null
  make(signal: AbortSignal): Promise<Made>
}

export interface AppSide extends PlaceSide {
  /** So many calls may be under way at once. */
  atOnce: number
  /** Calls of late, the newest first. */
  calls(): AppCall[]
}

export interface Changed {
  id: string
  record: AppRecord
  /** When, in milliseconds, where it does not stand in the record. */
  at?: number
}

/** A page of what has changed (see `PlaceSide.changes`). */
export interface ToldChanges {
  changed: Changed[]
  gone?: string[]
  anew?: true
  cursor?: string | null
}

export interface ListAsked {
  where?: Record<string, string>
  /** On a page, at most. */
  most?: number
  signal: AbortSignal
}

/** A call, without bodies and without secrets. */
export interface AppCall {
  at: string
  method: string
  path: string
  /** null: there was no answer. */
  status: number | null
  milliseconds: number
}
