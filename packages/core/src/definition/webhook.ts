import type { WebhookSigning } from '../app/description.ts'

/** An address that an app calls when a record of an object has changed, on behalf of a pipeline. */
export interface Webhook {
  /** The last part of the address; nobody guesses it. */
  id: string
  pipeline: string
  connection: string
  object: string
  /** As the app knows it. */
  subscription: string
  url: string
  signed: WebhookSigning
  secret: string
}
