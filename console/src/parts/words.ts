/** How figures and moments are written everywhere. */

export const money = (hour: number, currency: string) =>
  hour === 0 ? (currency ? 'no cost' : 'not told') : `${hour.toFixed(3)} ${currency} / h`

export function span(seconds: number): string {
  if (seconds < 10) return `${seconds.toFixed(1)} s`
  if (seconds < 60) return `${Math.round(seconds)} s`
  if (seconds < 3600)
    return `${Math.floor(seconds / 60)} min${seconds % 60 >= 1 ? ` ${Math.floor(seconds % 60)} s` : ''}`
  const minutes = Math.round(seconds / 60) // rounded first, or 59.7 of them would be 60 beside the hours
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

/** Roles as people read them: operator in saltmere-lab. */
export const roleText = (roles: string[]) => roles.map((r) => r.replace('@', ' in ')).join(', ')

/**
 * A span of real seconds on the account's clock, with the real time in brackets where that clock runs at another
 * rate.
 */
export const accountSpan = (seconds: number, rate: number) =>
  rate > 0 && Math.abs(rate - 1) > 1e-9 ? `${span(seconds * rate)} (${span(seconds)} real)` : span(seconds)

/** How long a run was worked on, with what it waited for people apart from that. */
export const spent = (
  run: { under_way_seconds: number; waited_seconds: number; rate?: number },
  rate = run.rate ?? 1,
) =>
  accountSpan(run.under_way_seconds, rate) +
  (run.waited_seconds >= 1 ? `, waited ${accountSpan(run.waited_seconds, rate)}` : '')

export const clock = (at: string | number | Date) =>
  new Date(at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: '2-digit', hour12: false })

export const moment = (at: string) => `${new Date(at).toLocaleDateString('sv-SE')} ${clock(at)}`

export function ago(at: string | undefined, now: number): string {
  if (!at) return 'never'
  if (now - new Date(at).getTime() < 10_000) return 'just now'
  return `${span(Math.max(0, (now - new Date(at).getTime()) / 1000))} ago`
}

/** How long it is until a moment, or how long ago it was. */
export function until(at: string, now: number): string {
  const seconds = (new Date(at).getTime() - now) / 1000
  if (seconds < 0) return `over since ${span(-seconds)}`
  return seconds > 2 * 86_400 ? `in ${Math.round(seconds / 86_400)} days` : `in ${span(seconds)}`
}

/** Puts what is pending anywhere in a value into words. */
function inWords(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(inWords)
  if (typeof value !== 'object' || value === null) return value
  if ('pending' in value && Array.isArray(value.pending)) return `waits for ${value.pending.join(', ')}`
  return Object.fromEntries(Object.entries(value).map(([k, v]) => [k, inWords(v)]))
}

/** A value as a person reads it: what is not known yet says what it waits for. */
export function valueText(value: unknown): string {
  if (value === null || value === undefined) return '–'
  if (typeof value === 'string') return value
  const words = inWords(value)
  return typeof words === 'string' ? words : JSON.stringify(words)
}

/** An input's value; one that is given in the middle of a run waits for nothing but a person. */
export const inputText = (input: { value?: unknown; origin: string }) =>
  input.origin === 'later' ? 'the run asks for it' : valueText(input.value)

/** An amount of memory or storage. */
export function gib(bytes: number): string {
  if (bytes >= 2 ** 40 && bytes % 2 ** 40 === 0) return `${bytes / 2 ** 40} TiB`
  if (bytes >= 2 ** 40) return `${(bytes / 2 ** 40).toFixed(1)} TiB`
  return `${Number((bytes / 2 ** 30).toFixed(1))} GiB`
}

/** A price, or that the cloud tells none. */
export const price = (amount: number | undefined, digits: number) => (amount ? amount.toFixed(digits) : 'not told')

/** How many there are, in words. */
export function counted(n: number, word: string): string {
  return `${n} ${word}${n === 1 ? '' : 's'}`
}
