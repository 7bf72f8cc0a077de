import { execFileSync } from 'node:child_process';
import { describe, expect, it } from 'vitest';
import { readAnswers } from './answers-file.js';

const FILE = `# The office
office:
  name: Saltmarsh Survey
  zone: Europe/London
you:
  name: Iris Ward
  signInName: iris
  email: iris@saltmarsh.example
  passwordFile: /run/secrets/iris
place: { folder: /srv/quay }
stores:
  names:
    - Office
    - Projects
  homes: true
mail:
  host: mail.saltmarsh.example
  port: 587
  encryption: starttls
  user: quay
  passwordFile: /run/secrets/mail
  sender: quay@saltmarsh.example
wayIn:
  kind: name
  inside: http://192.168.20.10:4180
`;
const secrets: Record<string, string> = {
  '/run/secrets/iris': 'weir-lantern-copper-tide',
  '/run/secrets/mail': 'mail-secret',
};
const read = (text: string) =>
  readAnswers(text, (path) => {
    if (!secrets[path]) throw new Error('no such file');
    return secrets[path];
  });
const faults = (text: string) => {
  const found = read(text);
  return 'faults' in found ? found.faults.map((f) => `${f.line} ${f.path}: ${f.words}`) : [];
};

describe('a file of answers', () => {
  it('says everything that the first start asks', () => {
    expect(read(FILE)).toMatchObject({
      answers: {
        office: { name: 'Saltmarsh Survey' },
        you: { password: 'weir-lantern-copper-tide' },
        place: { folder: '/srv/quay', anyway: false },
        stores: { names: ['Office', 'Projects'] },
        mail: { password: 'mail-secret', port: 587 },
      },
    });
  });
  it.each<[string, string, string, RegExp]>([
    ['a zone that is none', 'Europe/London', 'Europe/Londn', /^4 office.zone: There is no such time zone/],
    ['a name that cannot be one', '- Projects', '- a/b', /^14 stores.names.1: /],
    ['an unknown member', '  port: 587', '  port: 587\n  prot: 1', /^19 mail.prot: .*not allowed/],
    ['a wrong value', 'port: 587', 'port: often', /^18 mail.port: .*must be a number/],
    ['something missing', '  email: iris@saltmarsh.example\n', '', /^5 you.email: .*required/],
    ['a part missing', /wayIn:[\s\S]*/.exec(FILE)?.[0] ?? '', '', /^0 wayIn: .*required/],
    ['a secret that is not there', '/run/secrets/mail', '/run/secrets/none', /^21 mail.passwordFile: .*cannot be read/],
    ['what is no YAML', '  zone: Europe/London', ' zone: Europe/London', /^4 : /],
    ['a member twice', '  zone: Europe/London', '  zone: Europe/London\n  zone: UTC', /^5 : .*unique/i],
  ])('names the line of %s', (_what, from, to, told) => {
    const found = faults(FILE.replace(from, to));
    expect(found).toHaveLength(1);
    expect(found[0]).toMatch(told);
  });
  it('tells all that is wrong at once, in the order of its lines', () => {
    const found = faults(
      FILE.replace('Europe/London', 'X').replace('iris@saltmarsh.example', 'iris').replace('587', '0'),
    );
    expect(found.map((f) => f.split(' ')[0])).toEqual(['4', '8', '18']);
    expect(faults('')).toHaveLength(6);
  });
  it('never says a secret', () => {
    const text = FILE.replace('passwordFile: /run/secrets/iris', 'password: hush').replace(
      'zone: Europe/London',
      'zone: X',
    );
    expect(JSON.stringify(faults(text))).not.toContain('hush');
  });
  // Another parser of YAML (Debian's python3-yaml), where it is there.
  const other = (text: string) =>
    JSON.parse(
      execFileSync('python3', ['-c', 'import yaml,json,sys; print(json.dumps(yaml.safe_load(sys.stdin)))'], {
        input: text,
        stdio: ['pipe', 'pipe', 'ignore'],
      }).toString(),
    ) as object;
  const has = (() => {
    try {
      return Boolean(other('a: 1'));
    } catch {
      return false;
    }
  })();
  it.skipIf(!has)('reads as another parser does', () => {
    const { you, mail, ...rest } = other(FILE) as Record<string, object>;
    expect(read(FILE)).toMatchObject({ answers: rest });
    expect([you, mail]).toMatchObject([{ signInName: 'iris' }, { encryption: 'starttls' }]);
  });
});
