import { autocompletion, completionKeymap, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { linter, lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { search, searchKeymap } from '@codemirror/search'
import { EditorState, type Range } from '@codemirror/state'
import { Decoration, EditorView, ViewPlugin, drawSelection, highlightActiveLine, keymap, lineNumbers, type DecorationSet, type ViewUpdate } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { useEffect, useRef } from 'react'
import type { Schemas } from '../api/client'
import { nonce } from '../api/page'

type Language = Schemas['Language']
type TextCheck = Schemas['TextCheck']

const look = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--accent)' },
  { tag: [tags.string, tags.content], color: 'var(--ink)' },
  { tag: [tags.comment, tags.lineComment], color: 'var(--ink-2)', fontStyle: 'italic' },
  { tag: [tags.punctuation, tags.separator, tags.bracket], color: 'var(--ink-2)' },
])

const theme = EditorView.theme({
  '&': { fontSize: '13px', maxHeight: 'calc(100vh - 130px)', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
  '.cm-scroller': { fontFamily: 'var(--font-mono)', lineHeight: '1.5', fontVariantLigatures: 'none' },
  '.cm-gutters': { backgroundColor: 'var(--sheet)', color: 'var(--ink-2)', border: 'none' },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--accent-soft) 45%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--accent-soft) !important' },
  '.cm-expression, .cm-expression *': { color: 'var(--working) !important' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)', borderRadius: '6px' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--accent-soft)', color: 'var(--ink)' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--bad)' },
  '.cm-diagnostic-warning': { borderLeftColor: 'var(--settling)' },
})

const expression = Decoration.mark({ class: 'cm-expression' })

/** Marks what is computed: from an equals sign that begins a value to the end of the value. */
const expressions = ViewPlugin.fromClass(class {
  decorations: DecorationSet
  constructor(view: EditorView) { this.decorations = found(view) }
  update(u: ViewUpdate) { if (u.docChanged || u.viewportChanged) this.decorations = found(u.view) }
}, { decorations: (v) => v.decorations })

function found(view: EditorView): DecorationSet {
  const marks: Range<Decoration>[] = []
  for (const { from, to } of view.visibleRanges) {
    for (let at = from; at <= to;) {
      const line = view.state.doc.lineAt(at)
      for (const [start, end] of computed(line.text)) marks.push(expression.range(line.from + start, line.from + end))
      at = line.to + 1
    }
  }
  return Decoration.set(marks, true)
}

/** Where in a line of a template expressions stand: after a key, a dash or a bracket, quoted or not. */
function computed(line: string): [number, number][] {
  const out: [number, number][] = []
  for (const m of line.matchAll(/(^\s*|[:[{,-]\s+|[[{])(["']?)=(?!=)/g)) {
    const start = m.index + m[0].length - 1
    if (out.some(([a, b]) => start >= a && start < b)) continue // within another
    const quote = m[2]!
    const rest = line.slice(start)
    const flow = quote === '' && /[{[][^}\]]*$/.test(line.slice(0, m.index + m[1]!.length))
    const end = quote ? new RegExp(`${quote}(?=\\s*([,\\]}]|$))`).exec(rest) : flow ? /,\s+[\w"']+:|\}/.exec(rest) : /\s#/.exec(rest)
    out.push([start, start + (end ? end.index : rest.length)])
  }
  return out.filter(([a, b]) => b > a)
}

/** Completion by where the cursor is: sections, keys, types and their properties, and what is in scope of an expression. */
function completions(language: () => Language | undefined, scope: () => TextCheck | undefined) {
  return (c: CompletionContext): CompletionResult | null => {
    const l = language()
    if (!l) return null
    const word = c.matchBefore(/[\w.-]*/)
    if (!word || (word.from === word.to && !c.explicit)) return null
    const line = c.state.doc.lineAt(c.pos)
    const before = line.text.slice(0, c.pos - line.from)
    const option = (label: string, detail?: string, type = 'property') => ({ label, type, ...(detail ? { info: detail } : {}) })
    if (/(^|[\s"'[{,:])=/.test(before)) return inExpression(c, word.text, word.from, l, scope())
    const indent = before.length - before.trimStart().length
    if (/\btype:\s*[\w-]*$/.test(before) && sectionOf(c.state, line.number) === 'resources') return { from: word.from, options: l.types.map((t) => option(t.name, t.about, 'type')) }
    if (/\bpicks:\s*[\w-]*$/.test(before)) return { from: word.from, options: l.picks.map((p) => option(p, undefined, 'enum')) }
    if (/:\s/.test(before) && !/[{,]\s*[\w-]*$/.test(before)) return null
    if (indent === 0) return { from: word.from, options: l.sections.map((s) => option(s)) }
    const section = sectionOf(c.state, line.number)
    if (section === 'inputs' && (indent >= 4 || before.includes('{'))) return { from: word.from, options: l.input_keys.map((k) => option(k)) }
    if (section === 'resources' && indent >= 4) {
      const type = l.types.find((t) => t.name === typeAbove(c.state, line.number))
      if (indent >= 6 || /want:\s*\{/.test(before)) return type ? { from: word.from, options: type.properties.map((p) => option(p.name, p.about)) } : null
      return { from: word.from, options: l.resource_keys.map((k) => option(k)) }
    }
    return null
  }
}

function inExpression(c: CompletionContext, text: string, from: number, l: Language, scope: TextCheck | undefined): CompletionResult | null {
  const at = text.lastIndexOf('.')
  if (at >= 0) {
    const head = text.slice(0, at)
    const start = from + at + 1
    if (head === 'inputs') return { from: start, options: (scope?.inputs ?? []).map((label) => ({ label, type: 'variable' })) }
    if (head === 'calc') return { from: start, options: (scope?.calc ?? []).map((label) => ({ label, type: 'variable' })) }
    if (head === 'stack') return { from: start, options: ['name', 'id', 'account', 'cloud', 'region'].map((label) => ({ label, type: 'variable' })) }
    const type = l.types.find((t) => t.name === (head === 'self' ? typeAbove(c.state, c.state.doc.lineAt(c.pos).number) : scope?.resources.find((r) => r.name === head)?.type))
    return type ? { from: start, options: [...type.attributes, ...type.properties].map((p) => ({ label: p.name, type: 'property', info: p.about })) } : null
  }
  return {
    from, options: [
      ...['inputs', 'calc', 'stack', 'self', 'index'].map((label) => ({ label, type: 'keyword' })),
      ...(scope?.resources ?? []).map((r) => ({ label: r.name, type: 'variable', detail: r.type })),
      ...l.functions.map((f) => ({ label: f.name, type: 'function', info: `${f.form}\n${f.about}` })),
    ],
  }
}

/** The section that a line is in. */
function sectionOf(state: EditorState, line: number): string {
  for (let n = line; n > 0; n--) {
    const m = /^([a-z]+):/.exec(state.doc.line(n).text)
    if (m) return m[1]!
  }
  return ''
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

/** The text, with what the service's own check says in its place. */
export function Editor({ value, onChange, diagnostics, language, scope, line }: { value: string; onChange: (value: string) => void; diagnostics: Schemas['Diagnostic'][]; language: Language | undefined; scope: TextCheck | undefined; line: number }) {
  const host = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView | null>(null)
  const latest = useRef({ onChange, language, scope })
  latest.current = { onChange, language, scope }
  useEffect(() => {
    const v = new EditorView({
      parent: host.current!, doc: value,
      extensions: [
        EditorView.cspNonce.of(nonce()), lineNumbers(), history(), drawSelection(), highlightActiveLine(), yaml(), syntaxHighlighting(look), theme, expressions, lintGutter(), linter(null), search({ top: true }),
        autocompletion({ override: [completions(() => latest.current.language, () => latest.current.scope)] }),
        keymap.of([...completionKeymap, ...lintKeymap, ...searchKeymap, ...historyKeymap, ...defaultKeymap]), EditorState.tabSize.of(2),
        EditorView.contentAttributes.of({ 'aria-label': 'Text of the template', spellcheck: 'false' }),
        EditorView.updateListener.of((u) => { if (u.docChanged) latest.current.onChange(u.state.doc.toString()) }),
      ],
    })
    v.scrollDOM.tabIndex = 0 // what scrolls is reached by the keyboard
    view.current = v
    return () => { v.destroy(); view.current = null }
    // The text is the editor's own once it is there; what comes from outside is laid in below.
    // eslint-disable-next-line
  }, [])
  useEffect(() => {
    const v = view.current
    if (v && v.state.doc.toString() !== value) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } })
  }, [value])
  useEffect(() => {
    const v = view.current
    if (!v) return
    const list: Diagnostic[] = diagnostics.flatMap((d) => {
      if (d.line < 1 || d.line > v.state.doc.lines) return []
      const at = v.state.doc.line(d.line)
      const from = Math.min(at.to, at.from + Math.max(0, d.column - 1))
      const word = /^[^\s,:}\]]+/.exec(v.state.doc.sliceString(from, at.to))?.[0] ?? ''
      return [{ from, to: Math.max(from, Math.min(at.to, from + word.length)), severity: d.severity === 'error' ? 'error' : d.severity === 'warning' ? 'warning' : 'info', message: d.remedy ? `${d.message}; ${d.remedy}` : d.message }]
    })
    v.dispatch(setDiagnostics(v.state, list))
  }, [diagnostics])
  useEffect(() => {
    const v = view.current
    if (v && line > 0 && line <= v.state.doc.lines) { v.dispatch({ selection: { anchor: v.state.doc.line(line).from }, effects: EditorView.scrollIntoView(v.state.doc.line(line).from, { y: 'center' }) }); v.focus() }
  }, [line])
  return <div ref={host} />
}
