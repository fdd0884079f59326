import { Anchor, Breadcrumbs, Group, Text, Title } from '@mantine/core';
import type { ReactNode } from 'react';
import { Link } from 'react-router';

interface Step {
  label: string;
  to: string;
}

/** A page's title below the way that leads to it. */
export function Heading({ way, title, children }: { way: Step[]; title: string; children?: ReactNode }) {
  return (
    <>
      <title>{`${title} · Rapid Gable`}</title>
      {way.length > 0 && (
        <Breadcrumbs mb={4} separatorMargin={6}>
          {way.map((step) => (
            <Anchor key={step.to} component={Link} to={step.to} size="sm">
              {step.label}
            </Anchor>
          ))}
          <Text size="sm" c="dimmed">
            {title}
          </Text>
        </Breadcrumbs>
      )}
      <Group justify="space-between" align="center" mb="sm">
        <Title order={2} size="h3">
          {title}
        </Title>
        {children}
      </Group>
    </>
  );
}
