import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';

/** A browser as Debian packages it, and where other systems have it. */
interface Installable {
  readonly title: string;
  readonly package: string;
  /** Names another one than those below. */
  readonly variable: string;
  readonly places: readonly string[];
}

const chromium: Installable = {
  title: 'Chromium',
  package: 'chromium',
  variable: 'KOINON_TEST_CHROMIUM',
  places: ['/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome', '/usr/bin/google-chrome-stable'],
};
const firefox: Installable = {
  title: 'Firefox',
  package: 'firefox-esr',
  variable: 'KOINON_TEST_FIREFOX',
  places: ['/usr/bin/firefox-esr', '/usr/bin/firefox'],
};

/** The system's Chromium. */
export const findChromium = () => found(chromium);

/** The system's Firefox. */
export const findFirefox = () => found(firefox);

/** The path of a browser; on Debian as root it is installed when there is none. */
function found({ title, package: name, variable, places }: Installable): string {
  const find = () => [process.env[variable], ...places].find((path) => path !== undefined && existsSync(path));
  const path = find();
  if (path !== undefined) return path;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    console.log(`No ${title} found: installing Debian’s package \`${name}\` for the browser tests …`);
    const environment = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
    execFileSync('apt-get', ['update', '-qq'], { env: environment, stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', '-qq', name], { env: environment, stdio: 'ignore' });
  }
  const installed = find();
  if (installed !== undefined) return installed;
  throw new Error(
    `The browser tests need ${title}. Install it (Debian: apt-get install ${name}), or name one in ${variable}.`,
  );
}
