/** People who are on a system's page just now, to let us in. */
import type { SigningIn } from '@tide/connectors/contract/session'
import { Failure } from '@tide/core/failure'
import type { Services } from './services.ts'

const LASTS_MS = 15 * 60_000
/** Whoever begins again and again forgets what was begun first. */
const MOST = 100

interface Begun {
  url: string
  state: string
}

export class SignIns {
  private readonly begun = new Map<string, { connection: string; begun: Begun; at: number }>()

  begin(connection: string, begun: Begun): void {
    this.begun.set(begun.state, { connection, begun, at: Date.now() })
    if (this.begun.size > MOST) this.begun.delete(this.begun.keys().next().value!)
  }

  /** Each comes back once. */
  end(state: string): { connection: string; begun: Begun } {
    const found = this.begun.get(state)
    this.begun.delete(state)
    if (found && Date.now() - found.at < LASTS_MS) return found
    throw new Failure(
      'refused',
      'It is not known who was sent there, or that was too long ago.',
      'Sign in again from the connection’s page.',
    )
  }
}

/** How a person signs in to the system of a connection. Throws a Failure where nobody does. */
export async function signingIn(
  { store, connector }: Pick<Services, 'store' | 'connector'>,
  id: string,
): Promise<SigningIn> {
  const opened = await store.connections.openable(id)
  const found = opened && connector(opened.kind).signIn?.(opened.config)
  if (found) return found
  throw new Failure(
    'refused',
    'Nobody signs in to this system on a page of its own.',
    'Enter its token or password.',
  )
}
