import type { Schemas } from '../api/client'
import { passing } from '../api/passing'

export type Draft = Schemas['Draft']
export type Answer = Schemas['Answer']
export type Problem = Schemas['Problem']

/** What a draft may say anew: a merge patch of its body, in which null takes a value back. */
export interface Change {
  stack?: string
  account?: string
  region?: string
  preset?: string | null
  template?: string
  inputs?: Record<string, unknown>
}

export const merged = (a: Change | null, b: Change | null): Change => ({
  ...a,
  ...b,
  ...(a?.inputs || b?.inputs ? { inputs: { ...a?.inputs, ...b?.inputs } } : {}),
})

/** What keeps a change from going to the service. */
export type Hold =
  | '' // nothing
  | 'pause' // the service did not hear it, or is too busy: it is asked again by itself
  | 'signed-out' // whoever typed it has to sign in
  | 'person' // they may not change this any more, until they say that they may
  | 'gone' // the draft is no longer there

/**
 * A draft as it is typed. Every change stands in exactly one of three places until the service has
 * taken it: on its way, waiting, or refused as no such value can be. None is dropped by anything but
 * the service taking it, or the person taking it back.
 */
export interface Keeping {
  /** The draft as the service has it, as far as it was told. */
  draft: Draft
  /** The newest answer; while a name or a place cannot be checked it is the one before. */
  answer: Answer | undefined
  /** Sent, and not answered. */
  underway: Change | null
  /** Typed since, or to be sent again. */
  waiting: Change | null
  /** Sent without an answer: any of them may have been heard all the same. */
  doubtful: Change[]
  /** What the service will not take as it stands. It goes again only when it is typed anew. */
  refused: Change | null
  /** Somebody else's newer draft, which is not written over unasked. */
  theirs: Draft | null
  hold: Hold
  /** What the service said last instead of taking a change. */
  trouble: Problem | null
  /** How often in a row it was not taken, and how long the service asked to wait then, in seconds. */
  tries: number
  asked: number
}

export type Event =
  | { is: 'typed'; change: Change }
  | { is: 'sent' }
  | { is: 'kept'; draft: Draft }
  | { is: 'read'; draft: Draft }
  | { is: 'conflict'; theirs: Draft }
  | { is: 'failed'; problem: Problem; after?: number }
  | { is: 'again' }
  | { is: 'back' }
  | { is: 'settled'; mine: boolean }
  | { is: 'taken back' }

export const begun = (draft: Draft): Keeping => ({
  draft,
  answer: draft.answer,
  underway: null,
  waiting: null,
  doubtful: [],
  refused: null,
  theirs: null,
  hold: '',
  trouble: null,
  tries: 0,
  asked: 0,
})

/** A draft with what a browser kept of it when its page went; it rests on a revision that may be past. */
export function recalled(draft: Draft, kept: Recalled): Keeping {
  const s = begun(draft)
  if (holds(draft, kept.change)) return s
  const past = draft.revision > kept.revision && !isOwn(draft, kept.revision, kept.doubtful)
  return { ...s, waiting: kept.change, theirs: past ? draft : null }
}

/** What a browser keeps of a draft: what was typed, the revision that it rests on, and what may have been heard. */
export interface Recalled {
  revision: number
  change: Change
  doubtful: Change[]
}

export const recallOf = (s: Keeping): Recalled => ({
  revision: s.draft.revision,
  change: typedOf(s),
  doubtful: s.underway ? [...s.doubtful, s.underway] : s.doubtful,
})

/** Whether the one change since a revision was a doubtful one of one's own. */
const isOwn = (draft: Draft, revision: number, doubtful: Change[]) =>
  draft.revision === revision + 1 && doubtful.some((d) => holds(draft, d))

/** What is to be sent now, or null while nothing is or may be. */
export const toSend = (s: Keeping): Change | null => (s.underway || s.hold || s.theirs ? null : s.waiting)

/**
 * In how many seconds a change that was not heard is sent again: longer each time, and never sooner than the
 * service asked.
 */
export const pause = (s: Keeping): number => Math.max(s.asked, Math.min(15, 2 ** Math.min(s.tries - 1, 4)))

/** Everything that was typed and is not in the draft. */
export const typedOf = (s: Keeping): Change => merged(merged(s.refused, s.underway), s.waiting)

export const allKept = (s: Keeping): boolean => !s.underway && !s.waiting && !s.refused

/** How many values wait to be kept. */
export function countOf(c: Change): number {
  const { inputs, ...rest } = c
  return Object.keys(rest).length + Object.keys(inputs ?? {}).length
}

export function next(s: Keeping, e: Event): Keeping {
  switch (e.is) {
    case 'typed': {
      const refused = without(s.refused, e.change)
      return {
        ...s,
        waiting: merged(s.waiting, e.change),
        refused,
        trouble: refused || s.hold ? s.trouble : null,
        hold: s.hold === 'person' ? '' : s.hold,
      }
    }
    case 'sent':
      return { ...s, underway: s.waiting, waiting: null }
    case 'kept':
      return {
        ...read(s, e.draft),
        underway: null,
        doubtful: [],
        tries: 0,
        asked: 0,
        hold: '',
        trouble: s.refused ? s.trouble : null,
      }
    case 'read':
      return read(s, e.draft)
    case 'conflict':
      // It was kept, and only its answer was lost.
      if (s.underway && holds(e.theirs, s.underway)) return next(s, { is: 'kept', draft: e.theirs })
      if (isOwn(e.theirs, s.draft.revision, s.doubtful))
        return {
          ...read(s, e.theirs),
          underway: null,
          waiting: merged(s.underway, s.waiting),
          doubtful: [],
          tries: 0,
          asked: 0,
        }
      return {
        ...s,
        underway: null,
        waiting: merged(s.underway, s.waiting),
        doubtful: [],
        theirs: e.theirs,
        tries: 0,
        asked: 0,
      }
    case 'failed': {
      const hold = holdOf(e.problem.status)
      const failed = { ...s, underway: null, trouble: e.problem, tries: s.tries + 1, asked: e.after ?? 0, hold }
      if (hold === '') {
        // what was typed since does not wait for it, and what it says anew is not asked for again
        const refused = both(s.refused, without(s.underway, s.waiting ?? {}))
        return { ...failed, refused, trouble: refused ? e.problem : null, tries: 0 }
      }
      return {
        ...failed,
        waiting: merged(s.underway, s.waiting),
        doubtful: hold === 'pause' && s.underway ? [...s.doubtful, s.underway] : s.doubtful,
      }
    }
    case 'again':
      return s.hold === 'gone'
        ? s
        : { ...s, hold: '', waiting: s.refused ? merged(s.refused, s.waiting) : s.waiting, refused: null }
    case 'back':
      return s.hold === 'signed-out' || s.hold === 'pause' ? { ...s, hold: '', trouble: null, tries: 0 } : s
    case 'settled':
      if (!s.theirs) return s
      return { ...read(s, s.theirs), theirs: null, ...(e.mine ? {} : { waiting: null, refused: null, trouble: null }) }
    case 'taken back':
      return {
        ...s,
        refused: null,
        trouble: null,
        ...(s.hold === 'person' || s.hold === 'gone' ? { waiting: null, hold: '' as const } : {}),
      }
  }
}

/** What an answer means for a change: 0 is no answer at all. */
function holdOf(status: number): Hold {
  if (status === 401) return 'signed-out'
  if (status === 403) return 'person'
  if (status === 404 || status === 410) return 'gone'
  if (passing(status)) return 'pause'
  return ''
}

/** Of two readings of a draft the later counts; a graph that did not change is not told again. */
function read(s: Keeping, draft: Draft): Keeping {
  if (draft.revision < s.draft.revision) return s
  return {
    ...s,
    draft,
    answer: draft.answer ? { ...draft.answer, graph: draft.answer.graph ?? s.answer?.graph } : s.answer,
  }
}

/** Whether a draft says already what a change would. */
export function holds(draft: Draft, change: Change): boolean {
  const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null)
  const body = draft.body as unknown as Record<string, unknown>
  const inputs = (draft.body.inputs ?? {}) as Record<string, unknown>
  return Object.entries(change).every(([key, value]) =>
    key === 'inputs'
      ? Object.entries(value as object).every(([name, v]) => same(inputs[name], v))
      : (key === 'account' && value === '' && body.account) || // the best place was asked for, and it has one
        same(body[key] === '' ? null : body[key], value === '' ? null : value),
  )
}

const both = (a: Change | null, b: Change | null): Change | null => (a && b ? merged(a, b) : (a ?? b))

/** A change without what another says anew; null if nothing is left. */
function without(c: Change | null, anew: Change): Change | null {
  if (!c) return null
  const inputs = Object.fromEntries(Object.entries(c.inputs ?? {}).filter(([name]) => !(name in (anew.inputs ?? {}))))
  const rest = Object.fromEntries(Object.entries(c).filter(([key]) => key !== 'inputs' && !(key in anew)))
  const left = { ...rest, ...(Object.keys(inputs).length > 0 ? { inputs } : {}) }
  return Object.keys(left).length > 0 ? left : null
}

/** The body of a draft with everything that was typed, for a draft that takes its place. */
export function bodyWith(draft: Draft, c: Change): Record<string, unknown> {
  const { inputs, ...rest } = c
  const all = { ...draft.body, ...rest, inputs: { ...(draft.body.inputs as object | undefined), ...inputs } }
  const given = Object.fromEntries(Object.entries(all.inputs).filter(([, v]) => v !== null))
  return Object.fromEntries(Object.entries({ ...all, inputs: given }).filter(([, v]) => v !== null && v !== undefined))
}
