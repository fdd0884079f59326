import { Badge, Group, Text } from '@mantine/core';
import type { ReviewedService } from '../../api/client';

const words = { new: 'is new', gone: 'is gone: requests to it answer 404', changed: '' };

/** What a publication changes of a service, for consumers and callers. */
export function Changes({ service, isFirst }: { service: ReviewedService; isFirst: boolean }) {
  return (
    <div>
      <Text fw={600}>
        {service.name} {words[service.change]}
      </Text>
      {service.differences.map((difference) => (
        <Text key={difference} size="sm">
          {difference}
        </Text>
      ))}
      {service.faces.flatMap((face) =>
        face.changes.map((change) => (
          <Group key={`${face.face} ${change.subject} ${change.what}`} gap="xs" wrap="nowrap" align="start" mt={2}>
            <Badge
              tt="none"
              color={change.isBreaking ? 'red' : 'green'}
              variant="light"
              miw={78}
              style={{ flexShrink: 0 }}
            >
              {change.isBreaking ? 'breaks' : 'adds'}
            </Badge>
            <Text size="sm">
              {face.face}: {change.subject}: {change.what}
              {change.isBreaking && (
                <Text span c="dimmed" size="sm">
                  {' '}
                  – {change.meaning}
                </Text>
              )}
            </Text>
          </Group>
        )),
      )}
      {!isFirst &&
        service.opened.map((text) => (
          <Group key={text} gap="xs" wrap="nowrap" mt={2}>
            <Badge tt="none" color="yellow" variant="light" miw={78} style={{ flexShrink: 0 }}>
              opens
            </Badge>
            <Text size="sm">{text}</Text>
          </Group>
        ))}
    </div>
  );
}
