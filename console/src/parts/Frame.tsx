import {
  ActionIcon,
  Anchor,
  AppShell,
  Group,
  NavLink,
  Text,
  Title,
  useComputedColorScheme,
  useMantineColorScheme,
} from '@mantine/core';
import { IconMoon, IconSun } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { Link, NavLink as RouterLink, Outlet } from 'react-router';
import { fetchServices, fetchWorkspace } from '../api';

/** What stands around every page: the workspace's name, the services, the colours. */
export function Frame() {
  const workspace = useQuery({ queryKey: ['workspace'], queryFn: fetchWorkspace });
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices });
  return (
    <AppShell header={{ height: 52 }} navbar={{ width: 216, breakpoint: 'sm' }} padding="lg">
      <a className="skip" href="#content">
        Skip to the content
      </a>
      <AppShell.Header>
        <Group h="100%" px="md" justify="space-between" wrap="nowrap">
          <Group gap="sm" wrap="nowrap">
            <img src="/console/gable.svg" width={26} height={26} alt="" />
            <Anchor component={Link} to="/" underline="never" c="inherit">
              <Title order={1} size="h4">
                Rapid Gable
              </Title>
            </Anchor>
            <Text c="dimmed" truncate>
              {workspace.data?.title}
            </Text>
          </Group>
          <SchemeButton />
        </Group>
      </AppShell.Header>
      <AppShell.Navbar p="xs" aria-label="Workspace">
        <NavLink component={RouterLink} to="/sources" label="Sources" />
        <NavLink component={RouterLink} to="/" end label="Services" />
        {services.data?.map((service) => (
          <NavLink
            key={service.name}
            component={RouterLink}
            to={`/services/${service.name}`}
            label={service.title}
            description={service.name}
          />
        ))}
      </AppShell.Navbar>
      <AppShell.Main id="content" tabIndex={-1}>
        <Outlet />
      </AppShell.Main>
    </AppShell>
  );
}

function SchemeButton() {
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme('light');
  const next = scheme === 'dark' ? 'light' : 'dark';
  return (
    <ActionIcon variant="default" size="lg" aria-label={`Use ${next} colours`} onClick={() => setColorScheme(next)}>
      {scheme === 'dark' ? <IconSun size={18} /> : <IconMoon size={18} />}
    </ActionIcon>
  );
}
