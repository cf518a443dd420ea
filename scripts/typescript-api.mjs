// dependency-cruiser reads TypeScript through the compiler's JavaScript API, which TypeScript 7 does not have.
// This sends what it asks of `typescript` to version 5, which is installed under another name for that alone.
import Module, { register } from 'node:module';

const hook = `export const resolve = (name, context, next) => next(name.replace(/^typescript(?=$|\\/)/, 'typescript-compiler-api'), context);`;
register(`data:text/javascript,${encodeURIComponent(hook)}`);
const resolveFilename = Module._resolveFilename;
Module._resolveFilename = (name, ...rest) => resolveFilename(name.replace(/^typescript(?=$|\/)/, 'typescript-compiler-api'), ...rest);
