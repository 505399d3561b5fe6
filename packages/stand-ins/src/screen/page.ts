/** The page of a stand-in that has no tables of its own database: what it is, what can be seen, and what goes wrong with it. */
import { STYLE } from './frame.ts'
import { html, type Markup } from './html.ts'

interface StandInPage<Faults> {
  name: string
  what: string
  nav: Markup
  /** Such as “The store is”. */
  legend: string
  states: readonly { title: string; faults: Partial<Faults> }[]
  none: Faults
  present: Faults
  body: Markup
}

export function standInPage<Faults>({
  name,
  what,
  nav,
  legend,
  states,
  none,
  present,
  body,
}: StandInPage<Faults>): Markup {
  const now = JSON.stringify(present)
  return html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <title>${name} (simulated)</title>
        <style>
          ${{ markup: STYLE }}
        </style>
      </head>
      <body>
        <header><a href="/">${name}</a><span>${what}</span><span class="mark">simulated</span></header>
        <main>
          <nav>${nav}</nav>
          <section>
            <form method="post" action="/faults">
              <fieldset>
                <legend>${legend}</legend>
                ${states.map(
                  ({ title, faults }) =>
                    html`<button
                      name="state"
                      value="${title}"
                      aria-pressed="${String(JSON.stringify({ ...none, ...faults }) === now)}"
                    >
                      ${title}
                    </button> `,
                )}
              </fieldset>
            </form>
            ${body}
          </section>
        </main>
      </body>
    </html>`
}
