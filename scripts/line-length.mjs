#!/usr/bin/env node
// Fails for lines over 140 characters. In tests, documents inside of raw strings and lines that are one long text may be longer.
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const longest = 140;
const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const kinds = ['*.cs', '*.ts', '*.tsx', '*.mjs', 'scripts/*'];
const files = execFileSync('git', ['ls-files', '--cached', '--others', '--exclude-standard', ...kinds], { cwd: root, encoding: 'utf8' });
const oneText = /^\s*(\+ )?\$?"[^"]*(\\.[^"]*)*"[,;)]*$/;
let found = 0;
for (const file of files.split('\n').filter(Boolean)) {
  const isTest = file.startsWith('tests/');
  let isRaw = false;
  readFileSync(join(root, file), 'utf8')
    .split('\n')
    .forEach((line, index) => {
      const quotes = (line.match(/"""/g) ?? []).length;
      const wasRaw = isRaw || quotes > 0;
      if (quotes % 2 === 1) isRaw = !isRaw;
      if ([...line].length <= longest || (isTest && (wasRaw || oneText.test(line)))) return;
      console.error(`${file}:${index + 1}: ${[...line].length} characters`);
      found++;
    });
}
if (found > 0) {
  console.error(`${found} lines have more than ${longest} characters.`);
  process.exit(1);
}
