import { Anchor } from '@mantine/core';
import { useState } from 'react';

interface JsonTreeProps {
  value: unknown;
  name?: string;
  /** How deep it is open from the start. */
  open?: number;
  /** Goes to an address that stands in the answer; undefined = it is none of a service. */
  follow?: (name: string, text: string) => (() => void) | undefined;
}

/** Members that are shown at once; the others at a click. */
const mostShown = 100;

/** JSON that folds. Addresses of services in it can be followed. */
export function JsonTree({ value, name, open = 2, follow }: JsonTreeProps) {
  const [isOpen, setOpen] = useState(open > 0);
  const [shown, setShown] = useState(mostShown);
  const label = name === undefined ? null : <span className="json-name">{name}: </span>;
  if (typeof value !== 'object' || value === null) {
    const go = typeof value === 'string' ? follow?.(name ?? '', value) : undefined;
    return (
      <div className="json-line">
        {label}
        {go ? (
          <Anchor component="button" type="button" className="json-text" onClick={go}>
            <bdi>{JSON.stringify(value)}</bdi>
          </Anchor>
        ) : (
          <span className={typeof value === 'string' ? 'json-text' : 'json-plain'}>
            <bdi>{JSON.stringify(value)}</bdi>
          </span>
        )}
      </div>
    );
  }
  const isList = Array.isArray(value);
  const members = Object.entries(value);
  const size = isList ? `[${members.length}]` : `{${members.length}}`;
  return (
    <div className="json-line">
      <button type="button" className="json-fold" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
        {isOpen ? '▾' : '▸'} {label}
        <span className="json-size">{size}</span>
      </button>
      {isOpen && (
        <div className="json-members">
          {members.slice(0, shown).map(([key, member]) => (
            <JsonTree key={key} name={key} value={member} open={open - 1} follow={follow} />
          ))}
          {members.length > shown && (
            <Anchor component="button" type="button" size="sm" onClick={() => setShown(shown + 10 * mostShown)}>
              {members.length - shown} more
            </Anchor>
          )}
        </div>
      )}
    </div>
  );
}
