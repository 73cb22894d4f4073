import { useSyncExternalStore } from 'react'

/**
 * Whether whoever opened this page is still signed in. It ends by itself, by a sign-out in another tab,
 * and when somebody takes a right away; the page stays as it is until the same person is back.
 */
type Session = 'unknown' | 'there' | 'ended'

let session: Session = 'unknown'
let who = ''
const listeners = new Set<() => void>()
const returns = new Set<() => void>()

const set = (next: Session) => {
  if (next !== session) {
    session = next
    listeners.forEach((l) => l())
  }
}

export const isEnded = () => session === 'ended'
export const useSession = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l)
      return () => listeners.delete(l)
    },
    () => session,
  )

/** The service said who is here. */
export function noteWho(name: string) {
  // Another person's cookie stands in this browser by now: nothing that this page shows or keeps is theirs.
  if (who && who !== name) return window.location.assign('/stacks')
  who = name
  const back = session === 'ended'
  set('there')
  if (back) returns.forEach((r) => r())
}

/** The service said that it does not know who is here. */
export function noteEnded() {
  if (session === 'there') set('ended')
}

export const whoWasHere = () => who

/** Calls back each time that the person is here again after a session ended. */
export function onReturn(call: () => void): () => void {
  returns.add(call)
  return () => {
    returns.delete(call)
  }
}

/** What tabs of one browser tell each other, since they share one cookie. */
const tabs = typeof BroadcastChannel === 'undefined' ? undefined : new BroadcastChannel('undersail session')
let check = () => {}
tabs?.addEventListener('message', () => check())

/** Sets how a tab finds out who is here after another tab signed in or out. */
export function onOtherTab(call: () => void) {
  check = call
}
export const tellTabs = () => tabs?.postMessage('changed')
