import type { MinuteTraffic } from '../../api/client';
import { countsOf } from './figures';

const width = 240;
const height = 32;

/** Requests by minute as bars; what failed stands at the bottom of its bar in another colour. */
export function Minutes({ minutes, most, label }: { minutes: MinuteTraffic[]; most: number; label: string }) {
  const step = width / minutes.length;
  const counts = countsOf(minutes);
  const told = `${label}: ${counts.requests} in the last hour, ${counts.failed} failed`;
  return (
    <svg
      className="minutes"
      viewBox={`0 0 ${width} ${height}`}
      width={width}
      height={height}
      role="img"
      aria-label={told}
    >
      <line x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} className="ground" />
      {minutes.map((minute, at) => (
        <Bar key={minute.start} minute={minute} x={at * step} width={step - 1} most={most} />
      ))}
    </svg>
  );
}

function Bar({ minute, x, width: wide, most }: { minute: MinuteTraffic; x: number; width: number; most: number }) {
  if (minute.requests === 0) return null;
  const tall = Math.max(2, (minute.requests / most) * (height - 2));
  const bad = minute.failed > 0 ? Math.max(2, (minute.failed / most) * (height - 2)) : 0;
  return (
    <g>
      <title>
        {`${minute.start.slice(11, 16)} UTC: ${minute.requests} requests, ${minute.refused} refused, ${minute.failed} failed`}
      </title>
      <rect x={x} y={height - 1 - tall} width={wide} height={tall} className="done" />
      {bad > 0 && <rect x={x} y={height - 1 - bad} width={wide} height={bad} className="failed" />}
    </g>
  );
}
