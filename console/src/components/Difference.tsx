import { type DifferentLine } from '../features/draft/difference';

const signs = { same: ' ', gone: '-', new: '+' };

/** Lines that went and came, each with its sign, so that colour is not all that tells them apart. */
export function Difference({ lines, label }: { lines: DifferentLine[]; label: string }) {
  return (
    <pre className="difference" aria-label={label} tabIndex={0}>
      {lines.map((line, index) => (
        <span key={index} className={line.kind}>
          {signs[line.kind]} {line.text}
          {'\n'}
        </span>
      ))}
    </pre>
  );
}
