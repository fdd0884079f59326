import { Badge, Group, Text } from '@mantine/core';
import { Link } from 'react-router';
import type { CheckFinding } from '../../api/client';

interface FindingsProps {
  findings: CheckFinding[];
  /** The file that they are shown beside. */
  file: string;
  isPending: boolean;
}

/** What is wrong or doubtful, faults first. */
export function Findings({ findings, file, isPending }: FindingsProps) {
  const errors = findings.filter((finding) => finding.severity === 'error');
  const others = [...errors, ...findings.filter((finding) => finding.severity !== 'error')];
  return (
    <section aria-label="Findings" aria-live="polite">
      <Text size="sm" c="dimmed">
        {isPending
          ? 'checking …'
          : findings.length === 0
            ? 'No faults.'
            : `${errors.length} faults, ${findings.length - errors.length} warnings`}
      </Text>
      {others.slice(0, 50).map((finding) => (
        <Group key={`${finding.file} ${finding.line} ${finding.message}`} gap="xs" wrap="nowrap" align="start">
          <Badge
            tt="none"
            variant="light"
            color={finding.severity === 'error' ? 'red' : 'yellow'}
            style={{ flexShrink: 0 }}
          >
            {finding.severity === 'error' ? 'fault' : 'warning'}
          </Badge>
          <Text size="sm">
            {finding.file !== file ? (
              <Link to={`/files?${new URLSearchParams({ file: finding.file })}`}>
                {finding.file}:{finding.line}
              </Link>
            ) : (
              finding.line && `line ${finding.line}`
            )}{' '}
            {finding.message}{' '}
            {finding.advice && (
              <Text span size="sm" c="dimmed">
                {finding.advice}
              </Text>
            )}
          </Text>
        </Group>
      ))}
    </section>
  );
}
