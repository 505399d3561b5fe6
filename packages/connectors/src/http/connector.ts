import type { CheckItem } from '@tide/core/api/browse'
import type { AppDescription } from '@tide/core/app/description'
import { faultsOf } from '@tide/core/app/openapi'
import { Failure, messageOf } from '@tide/core/failure'
import type { Config, Connector, KeepSecrets, SigningIn } from '../contract/session.ts'
import { SignIn, type SignInBegun } from './sign-in.ts'
import { DescribedApp } from './app.ts'
import { benchbook } from './described/benchbook.ts'
import { clubgate } from './described/clubgate.ts'
import { pollenpost } from './described/pollenpost.ts'
import { rakeboard } from './described/rakeboard.ts'
import { rowsheet } from './described/rowsheet.ts'
import { describedSchema, readDescription, settings, shippedSchema } from './settings.ts'
import { appSession } from './session.ts'

const CHECK_MS = 15_000

async function* checkApp(
  description: () => AppDescription,
  config: Config,
  keep: KeepSecrets | undefined,
): AsyncGenerator<CheckItem> {
  const signal = AbortSignal.timeout(CHECK_MS)
  try {
    let app: DescribedApp | undefined
    yield* item('Read the description', async () => {
      app = new DescribedApp(description(), settings(config), keep)
      return `${app.name}, ${Object.keys(description().objects).length} objects`
    })
    yield* item('Reach the app', async () => {
      const { info } = await app!.document(signal)
      return `Its OpenAPI document${info?.title ? `, “${info.title}”` : ''}, was read.`
    })
    yield* item('Hold the description against its document', async () => {
      const faults = faultsOf(description(), await app!.document(signal))
      const [fault] = faults
      if (fault)
        throw new Failure(
          'refused',
          `${fault.at.join('.')}: ${fault.message}${faults.length > 1 ? ` And ${faults.length - 1} more.` : ''}`,
          fault.remedy,
        )
      return 'All that it names is there.'
    })
    for (const { name, title, can } of await app!.objects()) {
      if (!can.list) continue
      yield* item(`Read ${title}`, async () => {
        for await (const page of app!.list(name, { most: 1, signal }))
          return page.length > 0 ? 'It answers.' : 'None is there.'
        return 'None is there.'
      })
    }
  } catch (thrown) {
    if (!(thrown instanceof Told)) throw thrown
  }
}

/** What comes after it is not tried. */
class Told extends Error {}

async function* item(what: string, body: () => Promise<string>): AsyncGenerator<CheckItem> {
  try {
    yield { what, result: 'ok', found: await body() }
  } catch (thrown) {
    const remedy = thrown instanceof Failure ? thrown.remedy : 'Look at the app.'
    yield { what, result: 'failed', found: messageOf(thrown), remedy }
    throw new Told()
  }
}

const common = {
  band: 'apps',
  roles: ['target'],
  questionsAtOnce: 2,
  placeSettings: ['server', 'user', 'description', 'openapi'],
  fixedWhileFollowed: [],
  identity: (config: Config) => {
    const { server, user } = settings(config)
    return `${server} ${user}`
  },
  address: (config: Config) => new URL(settings(config).server).host,
} satisfies Partial<Connector>

/** Where a person lets us in on the app's page. */
function signingIn(description: AppDescription, config: Config): SigningIn | undefined {
  if (description.signIn.by !== 'authorization code') return undefined
  const asked = () => new SignIn(description, settings(config))
  return {
    begin: redirect => asked().begin(redirect),
    finish: async (begun, answer) => {
      const { refresh } = await asked().finish(begun as SignInBegun, answer)
      if (refresh !== undefined) return { grant: refresh }
      throw new Failure(
        'refused',
        `${description.app} gave no token with which others can be had.`,
        'Ask for a scope that allows it, such as offline_access, in the description.',
      )
    },
    end: async () => {
      const { grant } = settings(config)
      if (grant !== '') await asked().revoke(grant)
    },
  }
}

/** An app whose description ships with us. */
function shipped(kind: string, description: AppDescription): Connector {
  return {
    ...common,
    kind,
    title: description.app,
    summary: description.summary ?? '',
    configSchema: shippedSchema,
    check: (config, _, keep) => checkApp(() => description, config, keep),
    open: (config, keep) =>
      Promise.resolve(appSession(new DescribedApp(description, settings(config), keep))),
    signIn: config => signingIn(description, config),
  }
}

const descriptionOf = ({ description }: Config) => readDescription(String(description))

/** Any app that its user describes. */
const described: Connector = {
  ...common,
  kind: 'app',
  title: 'Described app',
  summary:
    'Any app with an interface over HTTP and JSON, by its OpenAPI document and a description of yours.',
  configSchema: describedSchema,
  check: (config, _, keep) => checkApp(() => descriptionOf(config), config, keep),
  open: (config, keep) =>
    Promise.resolve().then(() => appSession(new DescribedApp(descriptionOf(config), settings(config), keep))),
  signIn: config => signingIn(descriptionOf(config), config),
}

export const apps: readonly Connector[] = [
  shipped('clubgate', clubgate),
  shipped('pollenpost', pollenpost),
  shipped('rakeboard', rakeboard),
  shipped('benchbook', benchbook),
  shipped('rowsheet', rowsheet),
  described,
]
