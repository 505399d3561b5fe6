import type { Problem } from '@tide/core/api/problem'
import { Failure } from '@tide/core/failure'

/** The server's API as the command line uses it. */
export class Server {
  private readonly url: string

  constructor(url: string) {
    this.url = url
  }

  /** Throws a Failure with what the server answered, or that it does not answer. */
  async call<T>(method: 'GET' | 'POST' | 'PUT', path: string, body?: unknown): Promise<T> {
    return JSON.parse(await this.text(method, path, body)) as T
  }

  async text(method: 'GET' | 'POST' | 'PUT', path: string, body?: unknown): Promise<string> {
    let response: Response
    try {
      response = await fetch(`${this.url}/api${path}`, {
        method,
        ...(body === undefined
          ? {}
          : { body: JSON.stringify(body), headers: { 'Content-Type': 'application/json' } }),
      })
    } catch (cause) {
      throw new Failure(
        'transient',
        `No server answers at ${this.url}.`,
        'Start it, or set TIDE_URL to where it is.',
        cause,
      )
    }
    const text = await response.text()
    if (response.ok) return text
    const { detail, remedy } = JSON.parse(text) as Problem
    throw new Failure('refused', detail, remedy)
  }
}
