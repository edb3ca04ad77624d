import Table from 'cli-table3';
import pc from 'picocolors';

/** Prints the story: numbered steps, what happens in them, and small tables side by side. */
export class Narrator {
  private step = 0;

  title(text: string): void {
    console.log(`\n${pc.bold(text)}`);
  }

  chapter(text: string): void {
    this.step++;
    console.log(`\n${pc.cyan(pc.bold(`${this.step}. ${text}`))}`);
  }

  say(text: string): void {
    console.log(`   ${text}`);
  }

  /** Something that was refused, or did not work, as it should. */
  refusal(text: string): void {
    // A sentence per line: messages are long, terminals are narrow.
    const [first, ...rest] = text.split(/(?<=[.)]) (?=[A-Z])/);
    console.log(`   ${pc.yellow('!')} ${first}`);
    for (const sentence of rest) console.log(`     ${sentence}`);
  }

  /** Prints some rows as each place holds them: a place per column, those that differ from the server's marked. */
  sideBySide(
    places: readonly string[],
    lines: readonly { readonly what: string; readonly held: readonly string[] }[],
  ): void {
    const table = new Table({ head: ['', ...places], style: { head: ['bold'], compact: true } });
    for (const { what, held } of lines) {
      const server = held.at(-1);
      table.push([what, ...held.map((value) => (value === server ? value : pc.yellow(`${value} *`)))]);
    }
    const text = table.toString();
    console.log(text.replace(/^/gm, '   '));
    if (lines.some(({ held }) => held.some((value) => value !== held.at(-1))))
      this.say(pc.dim('* differs from the server'));
  }

  verdict(good: boolean, text: string): void {
    console.log(`\n${good ? pc.green(pc.bold(text)) : pc.red(pc.bold(text))}`);
  }
}
