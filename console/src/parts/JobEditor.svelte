<script lang="ts">
  import { yaml } from "@codemirror/lang-yaml";
  import { setDiagnostics } from "@codemirror/lint";
  import { EditorState } from "@codemirror/state";
  import { EditorView } from "@codemirror/view";
  import { basicSetup } from "codemirror";
  import { untrack } from "svelte";
  import { looks } from "../lib/editing";
  import type { ProblemBody } from "../lib/types";

  let {
    text = $bindable(),
    readonly = false,
    problem = null,
  }: { text: string; readonly?: boolean; problem?: ProblemBody | null } = $props();

  let host: HTMLElement;
  let view: EditorView | undefined = $state.raw();

  $effect(() => {
    const made = new EditorView({
      parent: host,
      state: EditorState.create({
        // typing must not make a new editor
        doc: untrack(() => text),
        extensions: [
          basicSetup,
          yaml(),
          looks,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "job file", tabindex: "0" }),
          EditorState.readOnly.of(untrack(() => readonly)),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) text = update.state.doc.toString();
          }),
        ],
      }),
    });
    view = made;
    return () => made.destroy();
  });

  $effect(() => {
    const current = text;
    if (view && view.state.doc.toString() !== current) {
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: current } });
    }
  });

  $effect(() => {
    if (!view) return;
    const doc = view.state.doc;
    const marks = (problem?.errors ?? [])
      .filter((error) => error.line && error.line <= doc.lines)
      .map((error) => {
        const line = doc.line(error.line!);
        return { from: line.from, to: line.to, severity: "error" as const, message: error.message };
      });
    view.dispatch(setDiagnostics(view.state, marks));
  });
</script>

<div bind:this={host} class="h-full" data-testid="job-file"></div>
