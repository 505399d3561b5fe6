/** How tests use the pages: as people do, by what they read there. */
import { By, error, Key, until, type WebDriver, type WebElement } from 'selenium-webdriver'

const WAIT = 15_000

export function pagesOf(driver: () => WebDriver, url: () => string) {
  const find = (locator: By): Promise<WebElement> =>
    driver().wait(until.elementLocated(locator), WAIT, `looking for ${locator}`)
  const xpath = (path: string) => find(By.xpath(path))
  const button = (text: string) =>
    xpath(`//button[normalize-space()="${text}"] | //a[normalize-space()="${text}"]`)
  const click = async (element: Promise<WebElement>) => {
    const found = await element
    await driver().wait(until.elementIsEnabled(found), WAIT)
    await found.click()
  }
  const field = (label: string) =>
    xpath(`//*[@id = //label[normalize-space()="${label}"]/@for] | //input[@aria-label="${label}"]`)
  const type = async (label: string, text: string) => {
    const input = await field(label)
    await input.sendKeys(Key.chord(Key.CONTROL, 'a'), text)
  }
  /** Between two pages there is nothing to read. */
  const read = () =>
    driver()
      .findElement(By.css('body'))
      .getText()
      .catch((thrown: Error) => {
        const isLeaving =
          thrown instanceof error.StaleElementReferenceError ||
          thrown instanceof error.NoSuchElementError ||
          // Said so where the page goes between the finding and the reading.
          thrown.message.includes('does not belong to the document')
        if (isLeaving) return ''
        throw thrown
      })
  const sees = (text: string, seconds = 15) =>
    driver().wait(
      async () => (await read()).includes(text),
      seconds * 1000,
      `waiting for “${text}” on the page`,
    )
  const open = (path: string) => driver().get(url() + path)
  return { find, xpath, button, click, field, type, sees, open, wait: WAIT }
}
