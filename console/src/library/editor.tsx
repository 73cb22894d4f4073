import { autocompletion, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { linter, lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { search, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { EditorView, drawSelection, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { useEffect, useRef } from 'react'
import type { Schemas } from '../api/client'
import { nonce } from '../api/page'
import { completions } from './completion'
import { expressions } from './expressions'

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
  '.cm-tooltip': {
    backgroundColor: 'var(--sheet)',
    color: 'var(--ink)',
    border: '1px solid var(--line)',
    borderRadius: '6px',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--accent-soft)', color: 'var(--ink)' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--bad)' },
  '.cm-diagnostic-warning': { borderLeftColor: 'var(--settling)' },
})

/** The text, with what the service's own check says in its place. */
export function Editor({
  value,
  onChange,
  diagnostics,
  language,
  scope,
  line,
}: {
  value: string
  onChange: (value: string) => void
  diagnostics: Schemas['Diagnostic'][]
  language: Language | undefined
  scope: TextCheck | undefined
  line: number
}) {
  const host = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView | null>(null)
  const latest = useRef({ onChange, language, scope })
  latest.current = { onChange, language, scope }
  useEffect(() => {
    const v = new EditorView({
      parent: host.current!,
      doc: value,
      extensions: [
        EditorView.cspNonce.of(nonce()),
        lineNumbers(),
        EditorView.lineWrapping,
        history(),
        drawSelection(),
        highlightActiveLine(),
        yaml(),
        syntaxHighlighting(look),
        theme,
        expressions,
        lintGutter(),
        linter(null),
        search({ top: true }),
        autocompletion({
          override: [
            completions(
              () => latest.current.language,
              () => latest.current.scope,
            ),
          ],
        }),
        keymap.of([...completionKeymap, ...lintKeymap, ...searchKeymap, ...historyKeymap, ...defaultKeymap]),
        EditorState.tabSize.of(2),
        EditorView.contentAttributes.of({ 'aria-label': 'Text of the template', spellcheck: 'false' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) latest.current.onChange(u.state.doc.toString())
        }),
      ],
    })
    v.scrollDOM.tabIndex = 0 // what scrolls is reached by the keyboard
    view.current = v
    return () => {
      v.destroy()
      view.current = null
    }
    // The text is the editor's own once it is there; what comes from outside is laid in below.
    // eslint-disable-next-line
  }, [])
  useEffect(() => {
    const v = view.current
    if (v && v.state.doc.toString() !== value)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } })
  }, [value])
  useEffect(() => {
    const v = view.current
    if (!v) return
    const list: Diagnostic[] = diagnostics.flatMap((d) => {
      if (d.line < 1 || d.line > v.state.doc.lines) return []
      const at = v.state.doc.line(d.line)
      const from = Math.min(at.to, at.from + Math.max(0, d.column - 1))
      const word = /^[^\s,:}\]]+/.exec(v.state.doc.sliceString(from, at.to))?.[0] ?? ''
      return [
        {
          from,
          to: Math.max(from, Math.min(at.to, from + word.length)),
          severity: d.severity === 'error' ? 'error' : d.severity === 'warning' ? 'warning' : 'info',
          message: d.remedy ? `${d.message}; ${d.remedy}` : d.message,
        },
      ]
    })
    v.dispatch(setDiagnostics(v.state, list))
  }, [diagnostics])
  useEffect(() => {
    const v = view.current
    if (v && line > 0 && line <= v.state.doc.lines) {
      v.dispatch({
        selection: { anchor: v.state.doc.line(line).from },
        effects: EditorView.scrollIntoView(v.state.doc.line(line).from, { y: 'center' }),
      })
      v.focus()
    }
  }, [line])
  return <div ref={host} />
}
