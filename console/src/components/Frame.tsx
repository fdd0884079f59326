import {
  ActionIcon,
  Anchor,
  AppShell,
  Burger,
  Button,
  Group,
  NavLink,
  Text,
  Title,
  useComputedColorScheme,
  useMantineColorScheme,
} from '@mantine/core';
import { useDisclosure, useLocalStorage } from '@mantine/hooks';
import {
  IconChecklist,
  IconDatabase,
  IconFileText,
  IconGauge,
  IconHistory,
  IconLayoutSidebar,
  IconMoon,
  IconPencilBolt,
  IconRocket,
  IconSend,
  IconStack2,
  IconSun,
  IconUsers,
} from '@tabler/icons-react';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useRef } from 'react';
import { Link, NavLink as RouterLink, Outlet } from 'react-router';
import { fetchServices, fetchSession, fetchWorkspace, signOut } from '../api/client';
import { SignInPage } from '../features/access/SignInPage';
import { Failed, Pending } from './States';

/** What stands around every page: the workspace's name, the services, the colours. */
export function Frame() {
  const session = useQuery({ queryKey: ['session'], queryFn: fetchSession });
  const mayLook = !!session.data?.name;
  const mayAdminister = session.data?.rights.includes('administer');
  const mayWrite = session.data?.rights.includes('write');
  const wasIn = useRef(false);
  const [isOpen, { toggle, close }] = useDisclosure();
  const [isFolded, setFolded] = useLocalStorage({
    key: 'gable-folded',
    defaultValue: false,
    getInitialValueInEffect: false,
  });
  const workspace = useQuery({ queryKey: ['workspace'], queryFn: fetchWorkspace, enabled: mayLook });
  const services = useQuery({ queryKey: ['services'], queryFn: fetchServices, enabled: mayLook });
  if (session.isPending) return <Pending what="the console" />;
  if (session.isLoadingError) return <Failed error={session.error} retry={session.refetch} />;
  if (mayLook) wasIn.current = true;
  if (!mayLook && !wasIn.current) return <SignInPage isRequired={session.data?.required ?? true} />;
  return (
    <>
      {/* A session that ends by itself takes nothing away that somebody typed. */}
      {!mayLook && <SignInPage isRequired={session.data?.required ?? true} goesOn />}
      <AppShell
        style={mayLook ? undefined : { display: 'none' }}
        header={{ height: 48 }}
        navbar={{ width: 216, breakpoint: 'sm', collapsed: { mobile: !isOpen, desktop: isFolded } }}
        padding="md"
      >
        <a className="skip" href="#content">
          Skip to the content
        </a>
        <AppShell.Header>
          <Group h="100%" px="md" justify="space-between" wrap="nowrap">
            <Group gap="sm" wrap="nowrap" miw={0}>
              <Burger
                opened={isOpen}
                onClick={toggle}
                hiddenFrom="sm"
                size="sm"
                aria-label="Navigation"
                aria-expanded={isOpen}
              />
              <ActionIcon
                variant="subtle"
                color="gray"
                visibleFrom="sm"
                aria-label={isFolded ? 'Show the navigation' : 'Hide the navigation'}
                aria-expanded={!isFolded}
                onClick={() => setFolded(!isFolded)}
              >
                <IconLayoutSidebar size={18} />
              </ActionIcon>
              <img src="/console/gable.svg" width={26} height={26} alt="" />
              <Anchor component={Link} to="/" underline="never" c="inherit">
                <Title order={1} size="h5" style={{ whiteSpace: 'nowrap' }}>
                  Rapid Gable
                </Title>
              </Anchor>
              <Text c="dimmed" size="sm" truncate visibleFrom="xs">
                {workspace.data?.title}
              </Text>
            </Group>
            <Group gap="sm" wrap="nowrap">
              <SignOutButton name={session.data?.name ?? ''} leave={() => (wasIn.current = false)} />
              <SchemeButton />
            </Group>
          </Group>
        </AppShell.Header>
        <AppShell.Navbar p="xs" aria-label="Workspace" style={{ overflowY: 'auto' }} onClick={close}>
          <NavLink component={RouterLink} to="/" end label="Overview" leftSection={<IconGauge size={16} />} />
          <NavLink component={RouterLink} to="/sources" label="Sources" leftSection={<IconDatabase size={16} />} />
          <NavLink component={RouterLink} to="/files" label="Files" leftSection={<IconFileText size={16} />} />
          <NavLink component={RouterLink} to="/services" end label="Services" leftSection={<IconStack2 size={16} />} />
          {services.data?.map((service) => (
            <NavLink
              key={service.name}
              component={RouterLink}
              to={`/services/${service.name}`}
              label={service.title}
              title={service.name}
              pl={34}
            />
          ))}
          <NavLink component={RouterLink} to="/publishing" label="Publishing" leftSection={<IconRocket size={16} />} />
          {mayWrite && (
            <NavLink component={RouterLink} to="/compose" label="Compose" leftSection={<IconPencilBolt size={16} />} />
          )}
          <NavLink component={RouterLink} to="/requests" label="Requests" leftSection={<IconSend size={16} />} />
          <NavLink component={RouterLink} to="/verify" label="Verify" leftSection={<IconChecklist size={16} />} />
          {mayAdminister && (
            <>
              <NavLink
                component={RouterLink}
                to="/accounts"
                label="Accounts and keys"
                leftSection={<IconUsers size={16} />}
              />
              <NavLink component={RouterLink} to="/audit" label="Audit log" leftSection={<IconHistory size={16} />} />
            </>
          )}
        </AppShell.Navbar>
        <AppShell.Main id="content" tabIndex={-1}>
          <Outlet />
        </AppShell.Main>
      </AppShell>
    </>
  );
}

function SignOutButton({ name, leave: left }: { name: string; leave: () => void }) {
  const client = useQueryClient();
  // What was seen while signed in goes with the session.
  const leave = useMutation({
    mutationFn: signOut,
    onSettled: () => {
      left();
      return client.resetQueries();
    },
  });
  return (
    <>
      <Text size="sm" visibleFrom="xs">
        {name === 'link' ? 'by the link' : name}
      </Text>
      <Button size="xs" variant="default" loading={leave.isPending} onClick={() => leave.mutate()}>
        Sign out
      </Button>
    </>
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
