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
