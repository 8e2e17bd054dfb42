// Readers of other people's, asked by line: {format, data} in, {value, comments} or {error} out.
import { createRequire } from "module";
import { createInterface } from "readline";

const require = createRequire(process.argv[2] + "/");
const yaml = require("yaml");
const properties = require("dot-properties");
const jsonc = require("jsonc-parser");

const number = (text) => {
  const t = text.replace(/_/g, "");
  return /^[-+]?(0o[0-7]+|0x[0-9a-fA-F]+|[0-9]+)$/.test(t) ? ["int", t] : ["float", t];
};

let length = 0, endsWithLine = true; // of the text that is read

// A YAML node; an alias is where it leads to.
function ofYaml(doc, node, path, paths) {
  if (node && node.anchor) paths.set(node, path);
  if (node === null || node === undefined) return ["null"];
  if (yaml.isAlias(node)) {
    const to = node.resolve(doc);
    if (!to) throw new Error("an alias leads nowhere");
    return ["alias", node.source, (paths.get(to) ?? ["?"]).join("/")];
  }
  const own = (value) =>
    node.tag && !node.tag.startsWith("tag:yaml.org,2002:") ? ["tagged", node.tag, value]
      : node.tag ? ["standard", node.tag, value] : value;
  if (yaml.isMap(node)) {
    const seen = new Map();
    for (const { key, value } of node.items) {
      if (!yaml.isScalar(key) && key !== null) throw new Error("a name that is no text");
      const name = key === null || key.source === undefined ? "" : String(key.source);
      seen.set(name, ofYaml(doc, value, [...path, name], paths));
    }
    return own(["map", [...seen]]);
  }
  if (yaml.isSeq(node)) return own(["list", node.items.map((item, n) => ofYaml(doc, item, [...path, n], paths))]);
  const value = node.value;
  if (value === null) return own(["null"]);
  if (typeof value === "boolean") return own(["bool", value]);
  if (typeof value === "number" || typeof value === "bigint") return own(number(node.source ?? String(value)));
  // A text without a last line feed has none at the end of the file, either (YAML 1.2.2, [165]).
  const isLast = node.type.startsWith("BLOCK_") && node.range[2] >= length && !endsWithLine;
  return own(["text", isLast ? value.replace(/\n$/, "") : String(value)]);
}

function ofJson(node, text) {
  if (node.type === "object") return ["map", node.children.map((c) => [c.children[0].value, ofJson(c.children[1], text)])];
  if (node.type === "array") return ["list", node.children.map((c) => ofJson(c, text))];
  if (node.type === "string") return ["text", node.value];
  if (node.type === "number") return number(text.slice(node.offset, node.offset + node.length));
  return node.type === "boolean" ? ["bool", node.value] : ["null"];
}

const readers = {
  yaml(text) {
    [length, endsWithLine] = [text.length, text.endsWith("\n")];
    const docs = yaml.parseAllDocuments(text, { version: "1.2", uniqueKeys: true, intAsBigInt: true, prettyErrors: false, keepSourceTokens: false });
    if (docs.length !== 1) throw new Error("not one document");
    if (docs[0].errors.length) throw docs[0].errors[0];
    const tokens = [...new yaml.Lexer().lex(text)];
    const comments = tokens.filter((t, n) => t[0] === "#" && tokens[n - 1] !== "\x1f");
    return { value: ofYaml(docs[0], docs[0].contents, [], new Map()), comments };
  },
  json(text) {
    JSON.parse(text);
    return { value: ofJson(jsonc.parseTree(text), text), comments: [] };
  },
  jsonc(text) {
    const errors = [];
    const tree = jsonc.parseTree(text, errors, { allowTrailingComma: true });
    if (errors.length || !tree) throw new Error(`JSON with comments: ${errors.length && errors[0].error}`);
    const comments = [];
    jsonc.visit(text, { onComment: (at, length) => comments.push(text.slice(at, at + length)) });
    return { value: ofJson(tree, text), comments };
  },
  properties(text) {
    const lines = properties.parseLines(text, true);
    const value = lines.filter((l) => l.type === "PAIR").map((l) => [l.key, ["text", l.value]]);
    return { value: ["map", value], comments: lines.filter((l) => l.type === "COMMENT").map((l) => l.comment) };
  },
};

for await (const line of createInterface({ input: process.stdin })) {
  const { format, data } = JSON.parse(line);
  let answer;
  try {
    answer = readers[format](new TextDecoder("utf-8", { fatal: true, ignoreBOM: false }).decode(Buffer.from(data, "base64")));
  } catch (error) {
    answer = { error: String(error.message ?? error).slice(0, 200) };
  }
  process.stdout.write(JSON.stringify(answer).replace(/[\u007f-\uffff]/g, (c) => "\\u" + c.charCodeAt(0).toString(16).padStart(4, "0")) + "\n");
}
