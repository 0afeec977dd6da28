<script lang="ts">
  import { autocompletion } from "@codemirror/autocomplete";
  import { sql, StandardSQL } from "@codemirror/lang-sql";
  import { Compartment, EditorState, Prec } from "@codemirror/state";
  import { EditorView, keymap } from "@codemirror/view";
  import { basicSetup } from "codemirror";
  import { untrack } from "svelte";
  import { looks } from "../lib/editing";

  /** SQL, with the names of tables and columns completed; Ctrl+Enter asks. */
  let { text = $bindable(), tables, submit }: { text: string; tables: Record<string, string[]>; submit: () => void } = $props();
  let host: HTMLElement;
  let view: EditorView | undefined = $state.raw();
  const names = new Compartment();
  const language = () => sql({ dialect: StandardSQL, schema: tables, upperCaseKeywords: false });

  $effect(() => {
    const made = new EditorView({
      parent: host,
      state: EditorState.create({
        doc: untrack(() => text),
        extensions: [
          Prec.highest(keymap.of([{ key: "Mod-Enter", run: () => (submit(), true) }])),
          basicSetup,
          names.of(untrack(language)),
          autocompletion(),
          looks,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "SQL", tabindex: "0" }),
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
    view?.dispatch({ effects: names.reconfigure(language()) });
  });
  $effect(() => {
    const current = text;
    if (view && view.state.doc.toString() !== current) {
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: current } });
    }
  });
</script>

<div bind:this={host} class="h-full" data-testid="sql"></div>
