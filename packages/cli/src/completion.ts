/** Shell completion: the scripts ask the command itself for the next words. */
import type { Command } from 'commander';

const SCRIPTS = {
  bash: `_orchard() { local IFS=$'\\n'; COMPREPLY=( $(orchard complete -- "\${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null) ); }
complete -o default -F _orchard orchard`,
  zsh: `#compdef orchard
_orchard() { local -a found; found=(\${(f)"$(orchard complete -- "\${(@)words[2,CURRENT]}" 2>/dev/null)}"}); compadd -a found; }
compdef _orchard orchard`,
  fish: `complete -c orchard -f -a '(orchard complete -- (commandline -opc)[2..-1] (commandline -ct) 2>/dev/null)'`,
} as const;
export const SHELLS = Object.keys(SCRIPTS) as (keyof typeof SCRIPTS)[];
export const completionScript = (shell: keyof typeof SCRIPTS): string => SCRIPTS[shell];

/** The words that can complete the last one. */
export function complete(program: Command, words: readonly string[]): string[] {
  const begun = words.at(-1) ?? '';
  let at = program;
  for (const word of words.slice(0, -1)) at = at.commands.find((command) => command.name() === word) ?? at;
  const options = [...at.options, ...program.options].flatMap(({ long }) => (long ? [long] : []));
  const candidates = begun.startsWith('-') ? options : at.commands.map((command) => command.name()).filter((name) => name !== 'complete');
  return [...new Set(candidates)].filter((candidate) => candidate.startsWith(begun));
}
