import { deepEqual, equal } from 'node:assert/strict'
import { test } from 'node:test'
import {
  allKept,
  begun,
  bodyWith,
  countOf,
  next,
  pause,
  recalled,
  toSend,
  typedOf,
  type Change,
  type Draft,
  type Event,
  type Keeping,
} from './keeping'

const draft = (revision: number, inputs: Record<string, unknown> = {}, stack = ''): Draft => ({
  id: 'd1',
  revision,
  body: { stack, inputs },
  made_by: 'ines',
  made_at: '',
  changed_at: '',
})
const typed = (inputs: Record<string, unknown>): Event => ({ is: 'typed', change: { inputs } })
const failed = (status: number, after?: number): Event => ({
  is: 'failed',
  problem: { type: '', title: String(status), status },
  after,
})
const after = (s: Keeping, ...events: Event[]) => events.reduce(next, s)

test('one change is on its way, and what is typed meanwhile goes with the next', () => {
  const s = after(begun(draft(1)), typed({ hosts: 2 }), { is: 'sent' }, typed({ hosts: 3 }), typed({ size: 'plain-2' }))
  equal(toSend(s), null)
  deepEqual(typedOf(s), { inputs: { hosts: 3, size: 'plain-2' } })
  const kept = next(s, { is: 'kept', draft: draft(2, { hosts: 2 }) })
  deepEqual(toSend(kept), { inputs: { hosts: 3, size: 'plain-2' } })
  equal(kept.draft.revision, 2)
})

test('an answer that says nothing of the value loses none, and is asked for again', () => {
  for (const status of [0, 408, 425, 429, 500, 502, 503, 504]) {
    let s = after(begun(draft(1)), typed({ hosts: 2 }), { is: 'sent' }, typed({ size: 'plain-2' }), failed(status))
    equal(toSend(s), null, `${status}: not at once`)
    equal(s.hold, 'pause')
    s = after(s, typed({ hosts: 4 }))
    equal(toSend(s), null, `${status}: what is typed does not press`)
    s = next(s, { is: 'again' })
    deepEqual(toSend(s), { inputs: { hosts: 4, size: 'plain-2' } }, String(status))
  }
})

test('the pause grows, and is never shorter than the service asks', () => {
  let s = after(begun(draft(1)), typed({ hosts: 2 }))
  const pauses = []
  for (let i = 0; i < 6; i++) {
    s = after(s, { is: 'again' }, { is: 'sent' }, failed(503))
    pauses.push(pause(s))
  }
  deepEqual(pauses, [1, 2, 4, 8, 15, 15])
  equal(pause(after(s, { is: 'again' }, { is: 'sent' }, failed(429, 40))), 40)
})

test('a session that ended holds everything until its person is back', () => {
  const s = after(begun(draft(1)), typed({ hosts: 2 }), { is: 'sent' }, failed(401), typed({ size: 'plain-2' }))
  equal(toSend(s), null)
  equal(s.hold, 'signed-out')
  const back = next(s, { is: 'back' })
  deepEqual(toSend(back), { inputs: { hosts: 2, size: 'plain-2' } })
  equal(back.trouble, null)
})

test('what the service will not take stays as it was typed, and the rest goes on', () => {
  let s = after(begun(draft(1)), typed({ hosts: 2 }), { is: 'sent' }, typed({ size: 'plain-2' }), failed(422))
  deepEqual(toSend(s), { inputs: { size: 'plain-2' } })
  s = after(s, { is: 'sent' }, { is: 'kept', draft: draft(2, { size: 'plain-2' }) })
  deepEqual(typedOf(s), { inputs: { hosts: 2 } })
  equal(allKept(s), false)
  equal(s.trouble?.status, 422)
  const anew = next(s, typed({ hosts: 3 }))
  deepEqual(toSend(anew), { inputs: { hosts: 3 } })
  equal(anew.trouble, null)
  deepEqual(toSend(next(s, { is: 'again' })), { inputs: { hosts: 2 } })
  equal(allKept(next(s, { is: 'taken back' })), true)
})

test('a right that is gone holds what was typed until it is tried again', () => {
  const s = after(begun(draft(1)), typed({ hosts: 2 }), { is: 'sent' }, failed(403))
  equal(toSend(s), null)
  deepEqual(toSend(next(s, { is: 'again' })), { inputs: { hosts: 2 } })
})

test('an older value that was refused does not come after the newer one', () => {
  const s = after(
    begun(draft(1)),
    typed({ range: '10.46.0.0/2' }),
    { is: 'sent' },
    typed({ range: '10.46.0.0/22' }),
    failed(422),
  )
  equal(s.refused, null)
  equal(s.trouble, null, 'the newer one says itself whether it is taken')
  const again = after(s, { is: 'sent' }, { is: 'again' }, { is: 'kept', draft: draft(2, { range: '10.46.0.0/22' }) })
  equal(toSend(again), null)
  equal(allKept(again), true)
})

test('what was refused does not go again before what was typed since is answered', () => {
  const sent = after(
    begun(draft(1)),
    typed({ hosts: 1, zone: 'a' }),
    { is: 'sent' },
    failed(422),
    typed({ hosts: 2 }),
    { is: 'sent' },
  )
  const s = after(sent, { is: 'again' }, failed(422))
  deepEqual(typedOf(s), { inputs: { hosts: 2, zone: 'a' } })
})

test('of a draft that is gone everything can be laid into a new one', () => {
  const s = after(
    begun(draft(3, { hosts: 1, zone: 'a' }, 'intake')),
    typed({ hosts: 2, zone: null }),
    { is: 'sent' },
    failed(404),
    { is: 'again' },
  )
  equal(toSend(s), null)
  deepEqual(bodyWith(s.draft, typedOf(s)), { stack: 'intake', inputs: { hosts: 2 } })
})

test("somebody else's draft is not written over unasked", () => {
  const s = after(
    begun(draft(1)),
    typed({ hosts: 2 }),
    { is: 'sent' },
    { is: 'conflict', theirs: draft(2, { hosts: 9 }) },
  )
  equal(toSend(s), null)
  deepEqual(typedOf(s), { inputs: { hosts: 2 } })
  const mine = next(s, { is: 'settled', mine: true })
  deepEqual(toSend(mine), { inputs: { hosts: 2 } })
  equal(mine.draft.revision, 2)
  const others = next(s, { is: 'settled', mine: false })
  equal(allKept(others), true)
  deepEqual(others.draft.body.inputs, { hosts: 9 })
})

test('a change that was kept while its answer was lost is no conflict', () => {
  const s = after(
    begun(draft(1)),
    typed({ hosts: 2 }),
    { is: 'sent' },
    failed(0),
    { is: 'again' },
    { is: 'sent' },
    { is: 'conflict', theirs: draft(2, { hosts: 2 }) },
  )
  equal(s.theirs, null)
  equal(allKept(s), true)
})

test('two who ask for the best place of a draft at once do not stand in the way of each other', () => {
  const placed = draft(2)
  placed.body.account = 'saltmere-lab'
  const s = after(
    begun(draft(1)),
    { is: 'typed', change: { account: '' } },
    { is: 'sent' },
    { is: 'conflict', theirs: placed },
  )
  equal(s.theirs, null)
  equal(allKept(s), true)
  equal(s.draft.body.account, 'saltmere-lab')
})

test('what was typed after a change whose answer was lost is no conflict with it', () => {
  const sent = after(
    begun(draft(1)),
    { is: 'typed', change: { stack: 'n' } },
    { is: 'sent' },
    { is: 'typed', change: { stack: 'ne' } },
    failed(0),
    { is: 'again' },
    { is: 'sent' },
  )
  const s = next(sent, { is: 'conflict', theirs: draft(2, {}, 'n') })
  equal(s.theirs, null)
  deepEqual(toSend(s), { stack: 'ne' })
  equal(s.draft.revision, 2)
  equal(
    next(sent, { is: 'conflict', theirs: draft(3, {}, 'n') }).theirs?.revision,
    3,
    'somebody else changed it as well',
  )
})

test('an older reading takes nothing back', () => {
  const s = after(
    begun(draft(1)),
    typed({ hosts: 2 }),
    { is: 'sent' },
    { is: 'kept', draft: draft(2, { hosts: 2 }) },
    { is: 'read', draft: draft(1) },
  )
  equal(s.draft.revision, 2)
})

test('what a browser kept goes on, unless it is there or somebody changed the draft since', () => {
  const change: Change = { inputs: { hosts: 2 } }
  deepEqual(toSend(recalled(draft(4), { revision: 4, change, doubtful: [] })), change)
  equal(allKept(recalled(draft(5, { hosts: 2 }), { revision: 4, change, doubtful: [] })), true)
  const moved = recalled(draft(5, { hosts: 9 }), { revision: 4, change, doubtful: [] })
  equal(toSend(moved), null)
  equal(moved.theirs?.revision, 5)
  const own = recalled(draft(5, { zone: 'a' }), { revision: 4, change, doubtful: [{ inputs: { zone: 'a' } }] })
  deepEqual(toSend(own), change)
})

test('the graph of an answer stays while it is not told anew', () => {
  const answer = (graph?: unknown) => ({ ...draft(1), answer: { graph, cost: {} } }) as unknown as Draft
  const s = next(begun(answer([{ name: 'net' }])), { is: 'read', draft: answer() })
  deepEqual(s.answer?.graph, [{ name: 'net' }])
  equal(next(s, { is: 'kept', draft: draft(2) }).answer?.graph, s.answer?.graph)
})

// Whatever comes in whatever order: every value that was typed is in the draft, waits, or was taken back by a person.
test('nothing is dropped in any order of events', () => {
  let seed = 7
  const chance = (n: number) => {
    seed = (seed * 1103515245 + 12345) % 2147483648
    return Math.floor(seed / 65536) % n
  }
  for (let round = 0; round < 3000; round++) {
    let served = draft(1)
    let s = begun(served)
    const wished: Record<string, unknown> = {}
    for (let i = 0; i < 25; i++) {
      const name = `in${chance(4)}`
      switch (chance(6)) {
        case 0:
        case 1:
          wished[name] = i
          s = next(s, typed({ [name]: i }))
          break
        case 2:
          s = next(s, { is: chance(2) ? 'again' : 'back' })
          break
        default: {
          const change = toSend(s)
          if (!change) break
          s = next(s, { is: 'sent' })
          for (let n = chance(3); n > 0; n--) {
            // more is typed, and asked for, before the answer is there
            const meanwhile = `in${chance(4)}`
            if (chance(2)) s = next(s, { is: chance(2) ? 'again' : 'back' })
            else {
              wished[meanwhile] = 100 * i + n
              s = next(s, typed({ [meanwhile]: 100 * i + n }))
            }
          }
          const status = [200, 200, 200, 0, 401, 408, 429, 422, 403, 503][chance(10)]!
          const heard = status === 200 || (status === 0 && chance(2) === 1) // an answer may be lost behind the deed
          if (heard) served = draft(served.revision + 1, { ...(served.body.inputs as object), ...change.inputs })
          s = next(
            s,
            status === 200
              ? { is: 'kept', draft: served }
              : served.revision > s.draft.revision && status !== 0
                ? { is: 'conflict', theirs: served }
                : failed(status),
          )
        }
      }
      if (s.theirs) s = next(s, { is: 'settled', mine: true })
      deepEqual(
        { ...(served.body.inputs as object), ...typedOf(s).inputs },
        { ...(served.body.inputs as object), ...wished },
        `round ${round}, event ${i}`,
      )
    }
    equal(countOf(typedOf(s)) <= 4, true)
  }
})
