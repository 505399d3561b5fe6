/**
 * Letting us in by a person on an app's own page: OAuth 2.0 authorization code with PKCE.
 * https://www.rfc-editor.org/rfc/rfc6749#section-4.1, https://www.rfc-editor.org/rfc/rfc7636
 */
import type { AppDescription } from '@tide/core/app/description'
import { Failure, messageOf } from '@tide/core/failure'
import * as oauth from 'oauth4webapi'
import type { AppSettings } from './settings.ts'

type ByCode = Extract<AppDescription['signIn'], { by: 'authorization code' }>

/** What must be remembered between leaving for the app's page and coming back. */
export interface SignInBegun {
  url: string
  state: string
  verifier: string
  redirect: string
}

export interface Granted {
  access: string
  /** Seconds for which it is good. */
  seconds: number | undefined
  /** With which others are had. */
  refresh: string | undefined
}

const LATE_MS = 20_000

export class SignIn {
  private readonly app: string
  private readonly server: string
  private readonly asked: ByCode
  private readonly as: oauth.AuthorizationServer
  private readonly client: oauth.Client
  private readonly clientAuth: oauth.ClientAuth

  constructor({ app, signIn }: AppDescription, { server, user, password }: AppSettings) {
    if (signIn.by !== 'authorization code')
      throw new Failure(
        'refused',
        `${app} is not signed in to on a page of its own.`,
        'Enter its token or password.',
      )
    if (user === '')
      throw new Failure(
        'refused',
        `${app} does not know who asks.`,
        'Register us there as a client, and enter the client’s id as “User or client”.',
      )
    this.app = app
    this.server = server
    this.asked = signIn
    this.as = {
      issuer: server,
      authorization_endpoint: server + signIn.authorize,
      token_endpoint: server + signIn.token,
      ...(signIn.revoke === undefined ? {} : { revocation_endpoint: server + signIn.revoke }),
    }
    this.client = { client_id: user }
    this.clientAuth = password === '' ? oauth.None() : oauth.ClientSecretBasic(password)
  }

  async begin(redirect: string): Promise<SignInBegun> {
    const [state, verifier] = [oauth.generateRandomState(), oauth.generateRandomCodeVerifier()]
    const url = new URL(this.as.authorization_endpoint!)
    const { scope } = this.asked
    const parameters = {
      response_type: 'code',
      client_id: this.client.client_id,
      redirect_uri: redirect,
      state,
      code_challenge: await oauth.calculatePKCECodeChallenge(verifier),
      code_challenge_method: 'S256',
      ...(scope === undefined ? {} : { scope }),
    }
    for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value)
    return { url: url.href, state, verifier, redirect }
  }

  /** `answer`: the parameters that the app has sent the person back with. */
  finish({ state, verifier, redirect }: SignInBegun, answer: URLSearchParams): Promise<Granted> {
    return this.granted(async options => {
      const checked = oauth.validateAuthResponse(this.as, this.client, answer, state)
      const response = await oauth.authorizationCodeGrantRequest(
        this.as,
        this.client,
        this.clientAuth,
        checked,
        redirect,
        verifier,
        options,
      )
      return oauth.processAuthorizationCodeResponse(this.as, this.client, response)
    })
  }

  refresh(grant: string): Promise<Granted> {
    return this.granted(async options => {
      const response = await oauth.refreshTokenGrantRequest(
        this.as,
        this.client,
        this.clientAuth,
        grant,
        options,
      )
      return oauth.processRefreshTokenResponse(this.as, this.client, response)
    })
  }

  /** Whoever is let in no longer tells the app so; one that cannot be told is none of our failures. */
  async revoke(grant: string): Promise<void> {
    if (this.as.revocation_endpoint === undefined) return
    await oauth.revocationRequest(this.as, this.client, this.clientAuth, grant, this.options).catch(() => {})
  }

  private get options() {
    return {
      // An app on this very machine may speak without TLS.
      [oauth.allowInsecureRequests]: this.server.startsWith('http:'),
      signal: AbortSignal.timeout(LATE_MS),
    }
  }

  private async granted(
    ask: (options: SignIn['options']) => Promise<oauth.TokenEndpointResponse>,
  ): Promise<Granted> {
    try {
      const { access_token: access, expires_in: seconds, refresh_token: refresh } = await ask(this.options)
      return { access, seconds, refresh }
    } catch (thrown) {
      throw this.failureOf(thrown)
    }
  }

  private failureOf(thrown: unknown): Failure {
    const { app } = this
    const remedy = 'Sign in again from the connection’s page.'
    if (thrown instanceof oauth.AuthorizationResponseError)
      return thrown.error === 'access_denied'
        ? new Failure('refused', `Nobody let us into ${app}: it was refused on its page.`, remedy)
        : new Failure('refused', `${app} let nobody in: ${thrown.error_description ?? thrown.error}.`, remedy)
    if (thrown instanceof oauth.ResponseBodyError) {
      const said = thrown.error_description ?? thrown.error
      return thrown.status >= 500
        ? new Failure(
            'transient',
            `${app} gives no token just now: ${said}.`,
            'It is tried again by itself.',
            thrown,
          )
        : new Failure('structural', `${app} gives us no token any more: ${said}.`, remedy, thrown)
    }
    if (thrown instanceof oauth.WWWAuthenticateChallengeError)
      return new Failure(
        'structural',
        `${app} does not know this client.`,
        'Correct client and secret of the connection.',
        thrown,
      )
    if (thrown instanceof oauth.OperationProcessingError || thrown instanceof oauth.UnsupportedOperationError)
      return new Failure(
        'structural',
        `What ${app} answered is no token: ${messageOf(thrown)}.`,
        remedy,
        thrown,
      )
    return new Failure(
      'transient',
      `${app} does not answer: ${messageOf(thrown)}.`,
      'It is tried again by itself.',
      thrown,
    )
  }
}
