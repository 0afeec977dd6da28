/** What a form needs of a JSON Schema: the fields of one object, in their order. */
export interface Schema {
  type?: string;
  title?: string;
  description?: string;
  default?: unknown;
  enum?: unknown[];
  const?: unknown;
  anyOf?: Schema[];
  $ref?: string;
  $defs?: Record<string, Schema>;
  properties?: Record<string, Schema>;
  required?: string[];
  examples?: unknown[];
  items?: Schema;
  oneOf?: Schema[];
  additionalProperties?: Schema | boolean;
  minimum?: number;
  maximum?: number;
  secret?: boolean;
  multiline?: boolean;
}

export type FieldKind = "text" | "number" | "yesno" | "choice" | "secret" | "multiline" | "list" | "other";

export interface FormField {
  key: string;
  kind: FieldKind;
  label: string;
  about: string;
  required: boolean;
  /** Whether "left out" is a value of its own, other than the empty text. */
  optional: boolean;
  choices: string[];
  example: string;
  usual: unknown;
}

function follow(schema: Schema, root: Schema): Schema {
  return schema.$ref ? { ...root.$defs?.[schema.$ref.split("/").pop() ?? ""], ...schema, $ref: undefined } : schema;
}

function kindOf(schema: Schema, root: Schema): { kind: FieldKind; choices: string[]; optional: boolean } {
  const whole = follow(schema, root);
  if (whole.secret) return { kind: whole.multiline ? "multiline" : "secret", choices: [], optional: false };
  if (whole.anyOf) {
    const options = whole.anyOf.map((one) => follow(one, root));
    const optional = options.some((one) => one.type === "null");
    const rest = options.filter((one) => one.type !== "null");
    // a text or a number: a text field takes both
    const first = rest.find((one) => one.type === "string") ?? rest[0];
    return first ? { ...kindOf(first, root), optional } : { kind: "other", choices: [], optional };
  }
  if (whole.enum) return { kind: "choice", choices: whole.enum.map(String), optional: false };
  if (whole.type === "boolean") return { kind: "yesno", choices: [], optional: false };
  if (whole.type === "integer" || whole.type === "number") return { kind: "number", choices: [], optional: false };
  if (whole.type === "string") return { kind: whole.multiline ? "multiline" : "text", choices: [], optional: false };
  if (whole.type === "array" && follow(whole.items ?? {}, root).type === "string") {
    return { kind: "list", choices: [], optional: false };
  }
  return { kind: "other", choices: [], optional: false };
}

/** Fields that are filled in first: up to the last that is required, or to the first secrets, whichever is later; the others can wait. */
export function firstFields(fields: FormField[]): number {
  const required = fields.findLastIndex((one) => one.required);
  let secret = fields.findIndex((one) => one.kind === "secret");
  while (fields[secret + 1]?.kind === "secret") secret += 1;
  return Math.max(required, secret) + 1 || fields.length;
}

export function fieldsOf(schema: Schema): FormField[] {
  return Object.entries(schema.properties ?? {})
    .filter(([, one]) => one.const === undefined)
    .map(([key, one]) => {
      const whole = follow(one, schema);
      return {
        key,
        ...kindOf(one, schema),
        label: key.replaceAll("_", " "),
        about: whole.description ?? "",
        required: schema.required?.includes(key) ?? false,
        example: String(whole.examples?.[0] ?? ""),
        usual: whole.default,
      };
    });
}

/** How the value of a key of a job file is set: a `section` has keys of its own, `sections` are a list of such, `yaml` is anything else. */
export type KeyKind = "text" | "long" | "number" | "yesno" | "choice" | "list" | "section" | "sections" | "yaml";

export interface Key {
  key: string;
  kind: KeyKind;
  about: string;
  /** Values to choose from, or to be proposed. */
  choices: string[];
  example: string;
  usual: unknown;
  least?: number;
  most?: number;
  /** Of a section. */
  keys: Key[];
}

const LONG = ["query", "before", "after", "about"];

/** The keys of a section of the job file, `name` in the schema's definitions ("" for the file itself), in their order. */
export function keysOf(root: Schema, name: string): Key[] {
  return keysIn(name ? root.$defs?.[name] : root, root, []);
}

function keysIn(schema: Schema | undefined, root: Schema, above: Schema["properties"][]): Key[] {
  return Object.entries(schema?.properties ?? {}).map(([key, one]) => {
    const whole = follow(one, root);
    const options = (whole.anyOf ?? [whole]).map((option) => follow(option, root)).filter((option) => option.type !== "null");
    const choices = options.flatMap((option) => (option.enum ?? (option.const === undefined ? [] : [option.const])).map(String));
    const only = options.length === 1 ? options[0]! : undefined;
    const item = only?.type === "array" ? follow(only.items ?? {}, root) : undefined;
    // a section within itself is written by hand
    const section = only?.properties ? only : item?.properties ? item : undefined;
    const nested = section && !above.includes(section.properties) ? keysIn(section, root, [...above, section.properties]) : [];
    const example = whole.examples?.[0] ?? only?.examples?.[0];
    return {
      key,
      kind: kindOfKey(key, only, item, nested.length > 0, choices),
      about: whole.description ?? only?.description ?? "",
      choices,
      example: example === undefined ? "" : typeof example === "string" ? example : JSON.stringify(example),
      usual: whole.default,
      least: only?.minimum,
      most: only?.maximum,
      keys: nested,
    };
  });
}

function kindOfKey(key: string, only: Schema | undefined, item: Schema | undefined, nested: boolean, choices: string[]): KeyKind {
  if (!only || only.oneOf) return "yaml";
  if (nested) return item ? "sections" : "section";
  if (item) return item.type === "string" && !LONG.includes(key) ? "list" : "yaml";
  if (only.type === "boolean") return "yesno";
  if (only.type === "integer" || only.type === "number") return "number";
  if (choices.length && only.enum) return "choice";
  if (only.type === "string") return LONG.includes(key) ? "long" : "text";
  return "yaml";
}
