/** The thread that checks the types of functions and strips them: it takes up to a second, which no call should wait for. */
import { parentPort } from 'node:worker_threads';
import ts from 'typescript-compiler-api';

export type CheckTask = { id: number; files: Record<string, string>; declarations: string };
export type CheckError = { file: string; line: number; column: number; message: string };
export type CheckAnswer = { id: number; errors: CheckError[]; built: Record<string, string> };

const OPTIONS: ts.CompilerOptions = {
  target: ts.ScriptTarget.ES2022,
  module: ts.ModuleKind.ESNext,
  moduleResolution: ts.ModuleResolutionKind.Bundler,
  lib: ['lib.es2023.d.ts'],
  types: [],
  strict: true,
  noImplicitAny: false,
  useUnknownInCatchVariables: false,
  allowJs: true,
  checkJs: false,
  noEmit: true,
  allowImportingTsExtensions: true,
  skipLibCheck: true,
};
const DECLARATIONS = '/orchard.d.ts';
/** The standard library's own declarations, read once. */
const libraries = new Map<string, ts.SourceFile | undefined>();
/** What the team's schema declared at the last check: functions that are saved in a row stand on the same. */
let declared: { text: string; file: ts.SourceFile } | undefined;
const MOST_ERRORS = 50;

function declaredIn(text: string, options: ts.ScriptTarget | ts.CreateSourceFileOptions): ts.SourceFile {
  if (declared?.text !== text) declared = { text, file: ts.createSourceFile(DECLARATIONS, text, options, true) };
  return declared.file;
}

const mainOf = (files: Record<string, string>): string => (files['main.ts'] === undefined ? 'main.js' : 'main.ts');

function check({ files, declarations }: CheckTask): CheckError[] {
  const at = new Map([...Object.entries(files).map(([name, text]) => [`/${name}`, text] as const), [DECLARATIONS, declarations]]);
  const base = ts.createCompilerHost(OPTIONS);
  const host: ts.CompilerHost = {
    ...base,
    getSourceFile: (name, options) => {
      const text = at.get(name);
      if (name === DECLARATIONS) return declaredIn(declarations, options);
      if (text !== undefined) return ts.createSourceFile(name, text, options, true);
      if (!libraries.has(name)) libraries.set(name, base.getSourceFile(name, options));
      return libraries.get(name);
    },
    fileExists: (name) => at.has(name) || (name.includes('/lib.') && base.fileExists(name)),
    readFile: (name) => at.get(name) ?? base.readFile(name),
    writeFile: () => undefined,
    getCurrentDirectory: () => '/',
    directoryExists: () => true,
    getDirectories: () => [],
  };
  const program = ts.createProgram([...at.keys()], OPTIONS, host);
  const errors = ts
    .getPreEmitDiagnostics(program)
    .slice(0, MOST_ERRORS)
    .map(({ file, start = 0, messageText }) => {
      const { line, character } = file?.getLineAndCharacterOfPosition(start) ?? { line: 0, character: 0 };
      return {
        file: file?.fileName.slice(1) ?? 'main.ts',
        line: line + 1,
        column: character + 1,
        message: innermost(messageText),
      };
    });
  const source = program.getSourceFile(`/${mainOf(files)}`);
  const module = source && program.getTypeChecker().getSymbolAtLocation(source);
  return errors.length > 0 || module?.exports?.has(ts.InternalSymbolName.Default)
    ? errors
    : [inMain(files, 'It has no default export: `export default async (request, { records }) => …`.')];
}

/** Of a chain of reasons the last one, which says what is wrong; those before it say what follows from it. */
function innermost(text: string | ts.DiagnosticMessageChain): string {
  if (typeof text === 'string') return text;
  const [next] = text.next ?? [];
  return next ? innermost(next) : text.messageText;
}

const inMain = (files: Record<string, string>, message: string): CheckError => ({ file: mainOf(files), line: 1, column: 1, message });

/** The compiler calls itself for each level of nesting: code can be too deep for it, and that is an error of the code. */
function checked(task: CheckTask): Omit<CheckAnswer, 'id'> {
  try {
    const errors = check(task);
    return { errors, built: errors.length > 0 ? {} : strip(task.files) };
  } catch (error) {
    const why = error instanceof RangeError ? 'It is nested too deep' : `The compiler failed: ${(error as Error).message}`;
    return { errors: [inMain(task.files, `It cannot be checked. ${why}.`)], built: {} };
  }
}

const strip = (files: Record<string, string>): Record<string, string> =>
  Object.fromEntries(
    Object.entries(files).map(([name, text]) => [
      name.replace(/\.ts$/, '.js'),
      name.endsWith('.js')
        ? text
        : ts.transpileModule(text, { compilerOptions: { ...OPTIONS, noEmit: false, allowImportingTsExtensions: false } }).outputText,
    ]),
  );

parentPort?.on('message', (task: CheckTask) => {
  parentPort?.postMessage({ id: task.id, ...checked(task) } satisfies CheckAnswer);
});
