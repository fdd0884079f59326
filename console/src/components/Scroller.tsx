import type { ReactNode } from 'react';

/** A part of a page that scrolls sideways by itself, with the keyboard, too. */
export function Scroller({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="scroller" role="region" aria-label={label} tabIndex={0}>
      {children}
    </div>
  );
}
