/** Calls of an app: signed in, within its limits, each in the call log. */
import type { AppDescription } from '@tide/core/app/description'
import { Failure, messageOf } from '@tide/core/failure'
import { backoff } from '@tide/core/pace/backoff'
import { isLosslessNumber, parse, stringify } from 'lossless-json'
import type { KeepSecrets } from '../contract/session.ts'
import { NotDone, type AppCall } from '../contract/app.ts'
import { Budget, pause } from './budget.ts'
import type { AppSettings } from './settings.ts'
import { SignIn, type Granted } from './sign-in.ts'

const CALL_MS = 30_000
const MOST_BYTES = 64 * 2 ** 20
/** What an app says for people is not longer. */
const SAID_CHARACTERS = 300
const MOST_TRIES = 5
const MOST_REST_MS = 300_000
const CALLS_KEPT = 500
/** A token is not used in its last seconds. */
const TOKEN_SPARE_MS = 10_000

export interface Asked {
  method: string
  /** Below the app's address, or a whole address on the same host. */
  path: string
  query?: Record<string, string>
  body?: unknown
  headers?: Record<string, string>
  /** It changes something: without an answer it is not known whether that was done. */
  writes?: boolean
  /** Tried first without being signed in. */
  open?: boolean
  signal: AbortSignal
}

export interface Answer {
  status: number
  headers: Headers
  /** JSON whose numbers keep their digits; undefined: there was none. */
  body: unknown
}

/** What all who work with one app in this process share. */
class Shared {
  readonly budget: Budget
  readonly calls: AppCall[] = []
  token: { text: string; until: number } | undefined
  refreshing: Promise<Granted> | undefined
  /** The newest: an app may give another one with every token, after which those before are good no longer. */
  grant: string
  keep: KeepSecrets | undefined

  constructor(description: AppDescription, grant: string) {
    this.grant = grant
    this.budget = new Budget(description.limits ?? {})
  }
}

const all = new Map<string, Shared>()

export class Caller {
  private readonly description: AppDescription
  private readonly settings: AppSettings
  private readonly shared: Shared

  constructor(description: AppDescription, settings: AppSettings, keep?: KeepSecrets) {
    this.description = description
    this.settings = settings
    const { grant } = settings
    const id = this.idWith(grant)
    let shared = all.get(id)
    if (!shared) all.set(id, (shared = new Shared(description, grant)))
    this.shared = shared
    if (keep) shared.keep = keep
  }

  private idWith(grant: string): string {
    const { server, user, token } = this.settings
    return JSON.stringify([server, user, token, grant, this.description.limits])
  }

  get atOnce(): number {
    return this.shared.budget.atOnce
  }

  /** The newest first. */
  get calls(): AppCall[] {
    return this.shared.calls.toReversed()
  }

  /** An answer of the app to what it understood: 2xx, or 4xx where it will not do that. */
  async call(asked: Asked): Promise<Answer> {
    for (let attempt = 1; ; attempt++) {
      const answer = await this.tried(asked, attempt)
      if (answer) return answer
    }
  }

  /** undefined: it is to be tried again, after the wait that was needed. */
  private async tried(asked: Asked, attempt: number): Promise<Answer | undefined> {
    const { signal, writes = false } = asked
    const { app } = this.description
    let answer: Answer
    try {
      answer = await this.once(asked)
    } catch (thrown) {
      if (signal.aborted || thrown instanceof Failure) throw thrown
      if (writes || attempt >= MOST_TRIES) throw this.unanswered(thrown, writes)
      await pause(backoff(attempt, Math.random()), signal)
      return undefined
    }
    const { status, headers } = answer
    if (status === 429 || (status === 503 && headers.has('Retry-After'))) {
      if (attempt >= MOST_TRIES * 4)
        throw new Failure('transient', `${app} wants to be asked less often.`, 'It is tried again by itself.')
      // It says that nothing was done.
      const rest = restOf(headers) ?? backoff(attempt, Math.random())
      this.shared.budget.restFor(rest)
      return undefined
    }
    if (status >= 500) {
      if (writes || attempt >= MOST_TRIES)
        throw new Failure(
          'transient',
          `${app} answered ${status} to ${asked.method} ${asked.path}: ${saidIn(answer.body)}`,
          'It is tried again by itself.',
        )
      await pause(backoff(attempt, Math.random()), signal)
      return undefined
    }
    if (status === 401 && / (?:credentials|code)$/.test(this.description.signIn.by) && attempt === 1) {
      this.shared.token = undefined
      return undefined
    }
    if ((status === 401 || status === 403) && asked.open === true) {
      asked.open = false
      return undefined
    }
    if (status === 401 || status === 403)
      throw new NotDone(
        `${app} does not let us ${asked.method} ${asked.path} (${status}): ${saidIn(answer.body)}`,
        'Renew the token or the password of the connection, and see that it has the right to that.',
      )
    return answer
  }

  private async once(asked: Asked): Promise<Answer> {
    const url = this.urlOf(asked)
    const give = await this.shared.budget.turn(asked.signal, this)
    try {
      const headers: Record<string, string> = {
        Accept: 'application/json',
        ...(asked.open ? {} : await this.signedIn(asked.signal)),
        ...asked.headers,
      }
      if (asked.body !== undefined) headers['Content-Type'] = 'application/json'
      const body = asked.body === undefined ? null : stringify(asked.body)!
      return await this.sent(url, { method: asked.method, headers, body }, asked.signal)
    } finally {
      give()
    }
  }

  private async sent(
    url: URL,
    request: { method: string; headers: Record<string, string>; body: string | null },
    signal: AbortSignal,
  ): Promise<Answer> {
    const began = performance.now()
    let status: number | null = null
    try {
      const response = await fetch(url, {
        ...request,
        // Who answers elsewhere gets nothing of ours.
        redirect: 'manual',
        signal: AbortSignal.any([signal, AbortSignal.timeout(CALL_MS)]),
      })
      const text = await textOf(response)
      ;({ status } = response)
      if (status >= 300 && status < 400)
        throw new Failure(
          'structural',
          `${this.description.app} sends ${request.method} ${url.pathname} elsewhere.`,
          'Set the connection’s address to where the app answers itself.',
        )
      return { status, headers: response.headers, body: this.read(text, status, url) }
    } finally {
      const at = new Date().toISOString()
      const milliseconds = performance.now() - began
      const { calls } = this.shared
      calls.push({ at, method: request.method, path: url.pathname, status, milliseconds })
      if (calls.length > CALLS_KEPT) calls.shift()
    }
  }

  private read(text: string, status: number, url: URL): unknown {
    if (text.trim() === '') return undefined
    try {
      return parse(text)
    } catch {
      // A gateway before the app says what it will.
      if (status >= 400) return text.slice(0, SAID_CHARACTERS)
      const isPage = /^\s*</.test(text)
      const what = isPage ? 'a page for people' : 'something that is no JSON'
      throw new Failure(
        // A page may say that the app is looked after, and is back soon.
        isPage ? 'transient' : 'structural',
        `${this.description.app} answered ${url.pathname} with ${what}: ${text.trim().slice(0, 80)}`,
        'If it stays so, see that the connection’s address is that of the app’s interface for programs.',
      )
    }
  }

  private urlOf({ path, query = {} }: Asked): URL {
    const { server } = this.settings
    const url = /^https?:/.test(path) ? new URL(path) : new URL(server + path)
    if (url.origin !== new URL(server).origin)
      throw new Failure(
        'structural',
        `${this.description.app} names a next page at ${url.origin}, which is not where it answers.`,
        'Set the connection’s address to that, if it is the app’s own.',
      )
    for (const [name, value] of Object.entries(query)) url.searchParams.set(name, value)
    return url
  }

  private async signedIn(signal: AbortSignal): Promise<Record<string, string>> {
    const { signIn } = this.description
    const { token, user, password } = this.settings
    switch (signIn.by) {
      case 'nothing':
        return {}
      case 'bearer token':
        return { Authorization: `Bearer ${token}` }
      case 'header':
        return { [signIn.header]: token }
      case 'basic':
        return { Authorization: `Basic ${Buffer.from(`${user}:${password}`).toString('base64')}` }
      case 'client credentials':
        return { Authorization: `Bearer ${await this.clientToken(signIn, signal)}` }
      case 'authorization code':
        return { Authorization: `Bearer ${await this.grantedToken()}` }
    }
  }

  /** https://www.rfc-editor.org/rfc/rfc6749#section-4.4 */
  private async clientToken(
    { token: path, scope }: { token: string; scope?: string },
    signal: AbortSignal,
  ): Promise<string> {
    const { shared, settings, description } = this
    if (shared.token && shared.token.until > Date.now()) return shared.token.text
    const { user, password } = settings
    const form = new URLSearchParams({ grant_type: 'client_credentials', ...(scope ? { scope } : {}) })
    const { status, body } = await this.sent(
      new URL(settings.server + path),
      {
        method: 'POST',
        headers: {
          Accept: 'application/json',
          'Content-Type': 'application/x-www-form-urlencoded',
          Authorization: `Basic ${Buffer.from(`${encodeURIComponent(user)}:${encodeURIComponent(password)}`).toString('base64')}`,
        },
        body: form.toString(),
      },
      signal,
    )
    const { access_token: text, expires_in: seconds } = Object(body) as Record<string, unknown>
    if (status >= 500)
      throw new Failure(
        'transient',
        `${description.app} gives no token just now (${status}).`,
        'It is tried again by itself.',
      )
    if (status !== 200 || typeof text !== 'string')
      throw new Failure(
        'structural',
        `${description.app} gives no token to this client (${status}): ${saidIn(body)}`,
        'Correct client and secret of the connection.',
      )
    const lasts = isLosslessNumber(seconds) ? Number(seconds.value) * 1000 : MOST_REST_MS
    shared.token = { text, until: Date.now() + lasts - TOKEN_SPARE_MS }
    return text
  }

  /** One token for all who ask at once. */
  private async grantedToken(): Promise<string> {
    const { shared, settings, description } = this
    if (shared.token && shared.token.until > Date.now()) return shared.token.text
    if (settings.grant === '')
      throw new Failure(
        'structural',
        `Nobody has signed in to ${description.app} yet.`,
        'Sign in from the connection’s page.',
      )
    shared.refreshing ??= this.refresh().finally(() => {
      shared.refreshing = undefined
    })
    const { access, seconds } = await shared.refreshing
    const lasts = seconds === undefined ? MOST_REST_MS : seconds * 1000
    shared.token = { text: access, until: Date.now() + Math.max(1000, lasts - TOKEN_SPARE_MS) }
    return access
  }

  private async refresh(): Promise<Granted> {
    const { shared, settings, description } = this
    const granted = await new SignIn(description, settings).refresh(shared.grant)
    const { refresh } = granted
    if (refresh !== undefined && refresh !== shared.grant) {
      shared.grant = refresh
      // Whoever opens the connection from now on is one of those who share.
      all.set(this.idWith(refresh), shared)
      await shared.keep?.({ grant: refresh })
    }
    return granted
  }

  private unanswered(thrown: unknown, writes: boolean): Failure {
    const { app } = this.description
    const cause = (thrown as { cause?: unknown }).cause
    const why = messageOf(cause ?? thrown)
    return new Failure(
      'transient',
      writes
        ? `${app} did not answer, so that it is not known whether it has done what it was asked: ${why}.`
        : `${app} does not answer: ${why}.`,
      writes
        ? 'It is looked at, and tried again by itself.'
        : 'See whether it is up; it is tried again by itself.',
      thrown,
    )
  }
}

async function textOf(response: Response): Promise<string> {
  if (!response.body) return ''
  const parts: Uint8Array[] = []
  let bytes = 0
  for await (const part of response.body as AsyncIterable<Uint8Array>) {
    bytes += part.length
    if (bytes > MOST_BYTES)
      throw new Failure(
        'structural',
        `The app answered with more than ${MOST_BYTES / 2 ** 20} MB at once.`,
        'Make its pages smaller in the description.',
      )
    parts.push(part)
  }
  return Buffer.concat(parts).toString('utf8')
}

/** https://www.rfc-editor.org/rfc/rfc9110#field.retry-after */
function restOf(headers: Headers): number | undefined {
  const said = headers.get('Retry-After')
  if (said === null) return undefined
  const milliseconds = /^\d+$/.test(said) ? Number(said) * 1000 : Date.parse(said) - Date.now()
  return Number.isNaN(milliseconds) ? undefined : Math.min(MOST_REST_MS, Math.max(0, milliseconds))
}

/** The app's own words, wherever it puts them. */
export function saidIn(body: unknown): string {
  if (typeof body === 'string') return body.slice(0, SAID_CHARACTERS)
  const {
    message,
    detail,
    title,
    error,
    error_description: described,
  } = Object(body) as Record<string, unknown>
  const inner = typeof error === 'object' && error !== null ? saidIn(error) : error
  const said = [message, detail, described, inner, title].find(one => typeof one === 'string' && one !== '')
  return typeof said === 'string' ? said.slice(0, SAID_CHARACTERS) : 'it does not say why.'
}
