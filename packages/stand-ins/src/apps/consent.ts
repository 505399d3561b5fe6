/** How a stand-in app lets others in: a page on which a person chooses an account and allows it, and tokens that expire. */
import type Router from '@koa/router'
import type Koa from 'koa'
import { createHash, randomBytes } from 'node:crypto'
import { STYLE } from '../screen/frame.ts'
import { html } from '../screen/html.ts'

/** Tokens are short-lived, so that they are refreshed while somebody looks. */
const TOKEN_SECONDS = 120
const CODE_MS = 60_000

interface Code {
  account: string
  client: string
  redirect: string
  challenge: string
  until: number
}

export class Consent {
  private readonly app: string
  private readonly accounts: readonly string[]
  private readonly codes = new Map<string, Code>()
  private readonly grants = new Map<string, string>()
  private readonly tokens = new Map<string, { account: string; until: number }>()

  constructor(app: string, accounts: readonly string[]) {
    this.app = app
    this.accounts = accounts
  }

  /** Whose a token is; undefined: nobody’s, or no longer. */
  accountOf(token: string): string | undefined {
    const found = this.tokens.get(token)
    return found && found.until > Date.now() ? found.account : undefined
  }

  /** As if the time of all were over. */
  expireTokens(): void {
    this.tokens.clear()
  }

  routes(router: Router): void {
    router.get('/authorize', ctx => this.page(ctx))
    router.post('/authorize', ctx => this.decided(ctx))
    router.post('/token', ctx => this.token(ctx))
    router.post('/revoke', ctx => {
      this.grants.delete(String((ctx.request.body as Record<string, string>).token))
      ctx.body = {}
    })
  }

  private page(ctx: Koa.Context): void {
    const asked = ctx.query as Record<string, string>
    const { client_id: client = '', redirect_uri: redirect = '' } = asked
    if (!URL.canParse(redirect)) ctx.throw(400, 'There is no redirect_uri.')
    ctx.set(
      'Content-Security-Policy',
      "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'",
    )
    ctx.type = 'html'
    ctx.body = html`<!doctype html>
      <html lang="en">
        <head>
          <meta charset="utf-8" />
          <title>${this.app} (simulated)</title>
          <style>
            ${{ markup: STYLE }}
          </style>
        </head>
        <body>
          <header><a href="/">${this.app}</a><span class="mark">simulated</span></header>
          <main>
            <section>
              <h1>Let “${client}” in?</h1>
              <p>It could read and write the records of the account that you choose.</p>
              <form method="post" action="/authorize">
                ${Object.entries(asked).map(
                  ([name, value]) => html`<input type="hidden" name="${name}" value="${value}" />`,
                )}
                <fieldset>
                  <legend>Account</legend>
                  ${this.accounts.map(
                    (account, i) =>
                      html`<p>
                        <label
                          ><input
                            type="radio"
                            name="account"
                            value="${account}"
                            ${{ markup: i === 0 ? 'checked' : '' }}
                          />
                          ${account}</label
                        >
                      </p>`,
                  )}
                </fieldset>
                <button name="deed" value="allow">Allow</button>
                <button name="deed" value="refuse">Refuse</button>
              </form>
            </section>
          </main>
        </body>
      </html>`.markup
  }

  private decided(ctx: Koa.Context): void {
    const {
      deed,
      account = '',
      redirect_uri,
      state = '',
      client_id = '',
      code_challenge = '',
    } = ctx.request.body as Record<string, string>
    const back = new URL(redirect_uri!)
    back.searchParams.set('state', state)
    if (deed === 'allow' && this.accounts.includes(account)) {
      const code = randomBytes(16).toString('hex')
      this.codes.set(code, {
        account,
        client: client_id,
        redirect: redirect_uri!,
        challenge: code_challenge,
        until: Date.now() + CODE_MS,
      })
      back.searchParams.set('code', code)
    } else back.searchParams.set('error', 'access_denied')
    ctx.redirect(back.href)
  }

  private token(ctx: Koa.Context): void {
    const asked = ctx.request.body as Record<string, string>
    const refuse = (error: string, description: string) => {
      ctx.status = 400
      ctx.body = { error, error_description: description }
    }
    if (asked.grant_type === 'refresh_token') {
      const account = this.grants.get(asked.refresh_token ?? '')
      if (account === undefined) return refuse('invalid_grant', 'the sign-in was taken back')
      // Each is good once: whoever has an old one is not the one we let in.
      this.grants.delete(asked.refresh_token!)
      ctx.body = this.given(account)
      return
    }
    const code = this.codes.get(asked.code ?? '')
    this.codes.delete(asked.code ?? '')
    const challenge = createHash('sha256')
      .update(asked.code_verifier ?? '')
      .digest('base64url')
    const isOurs =
      code && code.until > Date.now() && code.redirect === asked.redirect_uri && code.challenge === challenge
    if (!isOurs) return refuse('invalid_grant', 'the code is not known')
    ctx.body = this.given(code.account)
  }

  private given(account: string): object {
    const grant = randomBytes(24).toString('hex')
    this.grants.set(grant, account)
    const token = randomBytes(24).toString('hex')
    this.tokens.set(token, { account, until: Date.now() + TOKEN_SECONDS * 1000 })
    return { access_token: token, token_type: 'bearer', expires_in: TOKEN_SECONDS, refresh_token: grant }
  }
}
