import { syntaxTree } from '@codemirror/language'
import type { EditorState, Range } from '@codemirror/state'
import { Decoration, ViewPlugin, type DecorationSet, type EditorView, type ViewUpdate } from '@codemirror/view'

const scalars = new Set(['Literal', 'QuotedLiteral', 'BlockLiteralContent'])

/** Whether a scalar is computed: it begins with one equals sign; two begin a literal one. */
function computes(text: string): boolean {
  const inner = text.trimStart().replace(/^["']/, '')
  return inner.startsWith('=') && !inner.startsWith('==')
}

/** Where the expression that a place is in begins and ends, or nothing. */
export function expressionAt(state: EditorState, at: number): { from: number; to: number } | null {
  for (let n: ReturnType<typeof node> = node(state, at); n; n = n.parent) {
    if (scalars.has(n.name)) return computes(state.sliceDoc(n.from, n.to)) ? { from: n.from, to: n.to } : null
  }
  return null
}

const node = (state: EditorState, at: number) =>
  syntaxTree(state).resolveInner(at, -1) as ReturnType<ReturnType<typeof syntaxTree>['resolveInner']> | null

const mark = Decoration.mark({ class: 'cm-expression' })

/** Marks what is computed, over as many lines as it takes. */
export const expressions = ViewPlugin.fromClass(
  class {
    decorations: DecorationSet
    constructor(view: EditorView) {
      this.decorations = found(view)
    }
    update(u: ViewUpdate) {
      if (u.docChanged || u.viewportChanged || syntaxTree(u.startState) !== syntaxTree(u.state))
        this.decorations = found(u.view)
    }
  },
  { decorations: (v) => v.decorations },
)

function found(view: EditorView): DecorationSet {
  const marks: Range<Decoration>[] = []
  const last = { to: -1 }
  for (const { from, to } of view.visibleRanges) {
    syntaxTree(view.state).iterate({
      from,
      to,
      enter: (n) => {
        if (!scalars.has(n.name) || n.from < last.to || n.from === n.to || !computes(view.state.sliceDoc(n.from, n.to)))
          return
        marks.push(mark.range(n.from, n.to))
        last.to = n.to
      },
    })
  }
  return Decoration.set(marks, true)
}
