import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import type { EditorState } from '@codemirror/state'
import type { Schemas } from '../api/client'
import { expressionAt } from './expressions'

type Language = Schemas['Language']
type TextCheck = Schemas['TextCheck']

/** The keywords of a JSON Schema that completion heeds. */
interface Schema {
  $ref?: string
  $defs?: Record<string, Schema>
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  items?: Schema
  anyOf?: Schema[]
  oneOf?: Schema[]
  enum?: unknown[]
  const?: unknown
  type?: string | string[]
  description?: string
}

const ITEM = '-'

/**
 * Completion by where the cursor is: keys and values by the schema of template files, and inside of an
 * expression what is in scope there.
 */
export function completions(language: () => Language | undefined, scope: () => TextCheck | undefined) {
  return (c: CompletionContext): CompletionResult | null => {
    const l = language()
    const word = c.matchBefore(/[\w.-]*/)
    if (!l || !word || (word.from === word.to && !c.explicit)) return null
    if (
      expressionAt(c.state, c.pos) ||
      /(^|[\s"'[{,:])=[^=]*$/.test(c.state.doc.lineAt(c.pos).text.slice(0, c.pos - c.state.doc.lineAt(c.pos).from))
    )
      return inExpression(c, word.text, word.from, l, scope())
    const { path, key, beside } = placeOf(c.state, word.from)
    const root = l.schema as Schema
    const at = reach(
      root,
      path,
      path[0] === 'resources' && path.length > 1 ? typeAbove(c.state, c.state.doc.lineAt(c.pos).number) : '',
    )
    const options =
      key === null
        ? keysOf(root, at, path, beside, scope())
        : valuesOf(
            root,
            at.flatMap((s) => step(s, key)),
            path,
            key,
            scope(),
          )
    return options.length > 0 ? { from: word.from, options } : null
  }
}

/** Follows references and alternatives of a schema; of alternatives that name a type, that of the resource alone. */
function whole(root: Schema, s: Schema, type: string): Schema[] {
  const target = s.$ref?.startsWith('#/$defs/') ? root.$defs?.[s.$ref.slice('#/$defs/'.length)] : undefined
  const here = target ? whole(root, target, type) : [s]
  return here.flatMap((x) => {
    const of = [...(x.anyOf ?? []), ...(x.oneOf ?? [])]
    const fitting =
      type === ''
        ? of
        : of.filter((o) => {
            const t = o.properties?.['type']
            return t?.const === undefined || t.const === type
          })
    return [x, ...fitting.flatMap((o) => whole(root, o, type))]
  })
}

/** The schemas of a key in a schema that is whole already. */
function step(s: Schema, key: string): Schema[] {
  if (key === ITEM) return s.items ? [s.items] : []
  const own = s.properties?.[key]
  return own ? [own] : typeof s.additionalProperties === 'object' ? [s.additionalProperties] : []
}

/** The schemas of what lies at a path. */
function reach(root: Schema, path: string[], type: string): Schema[] {
  let at = whole(root, root, '')
  path.forEach((key, i) => {
    const next = at.flatMap((s) => step(s, key))
    at = next.flatMap((s) => whole(root, s, path[0] === 'resources' && i === 1 ? type : ''))
  })
  return at
}

function keysOf(
  root: Schema,
  at: Schema[],
  path: string[],
  beside: Set<string>,
  scope: TextCheck | undefined,
): Completion[] {
  const out = new Map<string, Completion>()
  for (const s of at) {
    for (const [name, p] of Object.entries(s.properties ?? {})) {
      if (!beside.has(name) && !out.has(name))
        out.set(name, { label: name, type: 'property', ...(aboutOf(root, p) ? { info: aboutOf(root, p) } : {}) })
    }
  }
  // Where names are free, they are those of something else in the text.
  const names =
    path.at(-1) === 'after'
      ? (scope?.resources.map((r) => r.name) ?? [])
      : path[0] === 'presets' && path[2] === 'inputs'
        ? (scope?.inputs ?? [])
        : []
  for (const label of names) if (!beside.has(label)) out.set(label, { label, type: 'variable' })
  return [...out.values()]
}

const aboutOf = (root: Schema, s: Schema) =>
  s.description ?? whole(root, s, '').find((x) => x.description && x.description !== 'text')?.description

function valuesOf(root: Schema, at: Schema[], path: string[], key: string, scope: TextCheck | undefined): Completion[] {
  const out = new Map<string, Completion>()
  const put = (label: string, info?: string) => {
    if (!out.has(label)) out.set(label, { label, type: 'enum', ...(info ? { info } : {}) })
  }
  for (const s of at.flatMap((x) => whole(root, x, ''))) {
    for (const v of s.enum ?? []) put(String(v))
    if (s.const !== undefined) put(String(s.const), s.description)
    if ((Array.isArray(s.type) ? s.type : [s.type]).includes('boolean') && s.type === 'boolean') {
      put('true')
      put('false')
    }
  }
  if (path[0] === 'resources' && key === 'was') for (const r of scope?.resources ?? []) put(r.name)
  return [...out.values()]
}

const opening = /^( *)((?:- +)*)(?:(["']?)([\w.-]+)\3:(?= |$))?/

/** The keys that lead to a place, the key whose value is being written there, and the keys beside it. */
function placeOf(state: EditorState, at: number): { path: string[]; key: string | null; beside: Set<string> } {
  const line = state.doc.lineAt(at)
  const before = line.text.slice(0, at - line.from)
  const flow = inFlow(before)
  const [, indent = '', dashes = '', , own] = opening.exec(before) ?? []
  const path: string[] = []
  const beside = new Set(flow.beside)
  const level = indent.length + dashes.length
  // What leads here stands left of these columns; a list may stand at the column of its key.
  let keys = level,
    items = level
  const enter = (spaces: number, list: string) => {
    for (const dash of [...list.matchAll(/-/g)].reverse()) {
      const d = spaces + dash.index
      if (d >= items) continue
      path.unshift(ITEM)
      keys = d + 1
      items = d
    }
  }
  enter(indent.length, dashes)
  for (let n = line.number - 1; n > 0 && keys > 0; n--) {
    const [, spaces = '', list = '', , key] = opening.exec(state.doc.line(n).text) ?? []
    const column = spaces.length + list.length
    if (key !== undefined && column < keys) {
      path.unshift(key)
      keys = items = column
    } else if (key !== undefined && column === level && path.length === 0 && !flow.open) beside.add(key)
    if (column <= items || key !== undefined) enter(spaces.length, list)
  }
  if (own === undefined) return { path, key: null, beside }
  if (!flow.open) return { path, key: own, beside }
  return { path: [...path, own, ...flow.keys], key: flow.key, beside }
}

/**
 * What is open in a line of flow style: the keys that lead in from its first, the key whose value is being
 * written, those beside it.
 */
function inFlow(before: string): { open: boolean; keys: string[]; key: string | null; beside: string[] } {
  const stack: { through: string[]; beside: string[]; list: boolean }[] = []
  let word = '',
    key: string | null = null,
    quote = ''
  const next = () => {
    key = null
    word = ''
  }
  for (const c of before) {
    if (quote !== '') {
      if (c === quote) quote = ''
      else word += c
      continue
    }
    switch (c) {
      case '"':
      case "'":
        quote = c
        break
      case '{':
      case '[':
        stack.push({
          through: [...(key === null ? [] : [key]), ...(c === '[' ? [ITEM] : [])],
          beside: [],
          list: c === '[',
        })
        next()
        break
      case '}':
      case ']':
        stack.pop()
        next()
        break
      case ',':
        next()
        break
      case ':':
        if (stack.length > 0 && !stack.at(-1)!.list) {
          key = word.trim()
          stack.at(-1)!.beside.push(key)
        }
        word = ''
        break
      default:
        word += c
    }
  }
  return {
    open: stack.length > 0,
    keys: stack.flatMap((x) => x.through),
    key: stack.length > 0 ? key : null,
    beside: stack.at(-1)?.beside ?? [],
  }
}

function inExpression(
  c: CompletionContext,
  text: string,
  from: number,
  l: Language,
  scope: TextCheck | undefined,
): CompletionResult | null {
  const at = text.lastIndexOf('.')
  if (at >= 0) {
    const head = text.slice(0, at)
    const start = from + at + 1
    const variables = (list: string[]) => ({ from: start, options: list.map((label) => ({ label, type: 'variable' })) })
    if (head === 'inputs') return variables(scope?.inputs ?? [])
    if (head === 'calc') return variables(scope?.calc ?? [])
    if (head === 'stack') return variables(['name', 'id', 'account', 'cloud', 'region'])
    const type = l.types.find(
      (t) =>
        t.name ===
        (head === 'self'
          ? typeAbove(c.state, c.state.doc.lineAt(c.pos).number)
          : scope?.resources.find((r) => r.name === head)?.type),
    )
    return type
      ? {
          from: start,
          options: [...type.attributes, ...type.properties].map((p) => ({
            label: p.name,
            type: 'property',
            info: p.about,
          })),
        }
      : null
  }
  return {
    from,
    options: [
      ...['inputs', 'calc', 'stack', 'self', 'index'].map((label) => ({ label, type: 'keyword' })),
      ...(scope?.resources ?? []).map((r) => ({ label: r.name, type: 'variable', detail: r.type })),
      ...l.functions.map((f) => ({ label: f.name, type: 'function', info: `${f.form}\n${f.about}` })),
    ],
  }
}

/** The type of the resource that a line is in. */
function typeAbove(state: EditorState, line: number): string {
  for (let n = line; n > 0; n--) {
    const text = state.doc.line(n).text
    const m = /^ {4}type: *(\w+)/.exec(text) ?? /^ {2}\w+: *\{type: *(\w+)/.exec(text)
    if (m) return m[1]!
    if (/^ {2}\w/.test(text)) {
      for (let k = n + 1; k <= Math.min(n + 20, state.doc.lines) && !/^ {0,2}\w/.test(state.doc.line(k).text); k++) {
        const below = /^ {4}type: *(\w+)/.exec(state.doc.line(k).text)
        if (below) return below[1]!
      }
      return ''
    }
  }
  return ''
}
