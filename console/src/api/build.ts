import { useSyncExternalStore } from 'react'

/** The script of a page is named by what is in it: another name is another build of the console. */
const mine = document.querySelector<HTMLScriptElement>('script[type="module"][src]')?.getAttribute('src') ?? ''

let renewed = false
const listeners = new Set<() => void>()

/** Asks which build the service has now. False means: the same, or it cannot be asked. */
export async function noteBuild(): Promise<boolean> {
  const html = await fetch('/', { headers: { Accept: 'text/html' }, cache: 'no-store' }).then(
    (r) => (r.ok ? r.text() : ''),
    () => '',
  )
  const theirs = /<script type="module"[^>]* src="([^"]+)"/.exec(html)?.[1]
  if (theirs && mine && theirs !== mine && !renewed) {
    renewed = true
    listeners.forEach((l) => l())
  }
  return renewed
}

/** Whether the service has another build than this page is of. */
export const useRenewed = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l)
      return () => listeners.delete(l)
    },
    () => renewed,
  )

/** Whether the service answers at all, with whatever. */
export const answers = (): Promise<boolean> =>
  fetch('/favicon.svg', { cache: 'no-store' }).then(
    (r) => r.ok,
    () => false,
  )
