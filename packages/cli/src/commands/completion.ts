import { Argument, Option, type Command } from 'commander';
import { suggest } from '../arguments/suggest.js';

/** What a shell runs to know what could come next: it gives the words so far and gets a candidate a line, with a tab and words about it. */
const SCRIPTS = {
  bash: `_uproar() {
  local IFS=$'\\n' cur="\${COMP_WORDS[COMP_CWORD]}"
  local found=($(uproar suggest -- "\${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null | cut -f1))
  COMPREPLY=($(compgen -W "\${found[*]}" -- "$cur"))
  [[ \${#COMPREPLY[@]} -eq 0 ]] && COMPREPLY=($(compgen -f -- "$cur"))
  [[ \${#COMPREPLY[@]} -eq 1 && \${COMPREPLY[0]} == */ ]] && compopt -o nospace
}
complete -F _uproar uproar
`,
  zsh: `#compdef uproar
_uproar() {
  local -a lines described
  lines=("\${(@f)$(uproar suggest -- "\${(@)words[2,CURRENT]}" 2>/dev/null)}")
  local line
  for line in $lines; do
    [[ -n $line ]] && described+=("\${\${line%%$'\\t'*}//:/\\\\:}:\${line#*$'\\t'}")
  done
  if (( \${#described} )); then _describe uproar described; else _files; fi
}
compdef _uproar uproar
`,
  fish: `function __uproar_suggestions
    set -l words (commandline -opc) (commandline -ct)
    uproar suggest -- $words[2..-1] 2>/dev/null
end
complete -c uproar -e
complete -c uproar -a '(__uproar_suggestions)'
`,
};

/** `uproar completion`: has a shell complete commands, options, collections and documents. */
export function addCompletion(program: Command): void {
  program
    .command('completion')
    .summary('print a completion script for your shell')
    .description(
      'Prints a script for bash, zsh or fish. It completes commands, options, and the collections and ids of the selected store.',
    )
    .addArgument(new Argument('<shell>', 'bash, zsh or fish').choices(Object.keys(SCRIPTS)))
    .addHelpText(
      'after',
      '\nExamples:\n  uproar completion bash >> ~/.bashrc\n  uproar completion zsh > "${fpath[1]}/_uproar"\n  uproar completion fish > ~/.config/fish/completions/uproar.fish',
    )
    .action((shell: keyof typeof SCRIPTS) => void process.stdout.write(SCRIPTS[shell]));
  program
    .command('suggest', { hidden: true })
    .description('Prints completions, for shells.')
    .argument('[words...]', 'the words so far; the last one is incomplete')
    .addOption(new Option('--help').hideHelp())
    .helpOption(false)
    .addHelpText('after', '\nExample:\n  uproar suggest -- watch bal')
    .action(async (words: string[]) => {
      for (const { word, about } of await suggest(program, words)) {
        process.stdout.write(about === undefined ? `${word}\n` : `${word}\t${about}\n`);
      }
      // A store that is asked and does not answer must not keep the shell waiting.
      process.exit();
    });
}
