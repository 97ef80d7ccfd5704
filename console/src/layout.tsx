import {
  Box,
  Button,
  Field,
  Flex,
  HStack,
  IconButton,
  Input,
  Text,
  Toast,
  Toaster,
  VStack,
} from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import {
  Boxes,
  CalendarCheck,
  CalendarClock,
  Cpu,
  FileCog,
  FileText,
  Hammer,
  HardDrive,
  KeyRound,
  LayoutGrid,
  type LucideIcon,
  Monitor,
  Moon,
  Package,
  RefreshCw,
  ScrollText,
  Server,
  Sun,
  UserCog,
  Users,
} from "lucide-react";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { type Account, api, call } from "./api";
import { useLive } from "./live";
import { useSigned } from "./session";
import { chooseDark, isDark } from "./shade";
import { FormDialog, toaster } from "./ui";

const pages: { to: string; label: string; icon: LucideIcon; role?: Account["role"] }[] = [
  { to: "/", label: "Today", icon: CalendarCheck },
  { to: "/images", label: "Images", icon: HardDrive },
  { to: "/software", label: "Software", icon: Boxes },
  { to: "/bases", label: "Bases", icon: Package },
  { to: "/sheets", label: "Sheets", icon: FileCog },
  { to: "/builds", label: "Builds", icon: Hammer },
  { to: "/calendar", label: "Calendar", icon: CalendarClock },
  { to: "/build-machines", label: "Build machines", icon: Cpu },
  { to: "/pools", label: "Pools", icon: LayoutGrid },
  { to: "/hosts", label: "Hosts", icon: Monitor },
  { to: "/people", label: "People", icon: Users },
  { to: "/rollovers", label: "Rollovers", icon: RefreshCw },
  { to: "/sites", label: "Sites", icon: Server },
  { to: "/trail", label: "Trail", icon: ScrollText },
  { to: "/estate", label: "Estate file", icon: FileText },
  { to: "/accounts", label: "Accounts", icon: UserCog, role: "administrator" },
  { to: "/tokens", label: "Tokens", icon: KeyRound },
];

/** The practice clock, if that is what the service goes by. */
function PracticeClock() {
  const status = useQuery({
    queryKey: ["status"],
    queryFn: () => call(api.GET("/api/v1/status")),
    refetchInterval: 1000,
  });
  if (!status.data?.practice) return null;
  const now = new Date(status.data.now);
  return (
    <Box
      bg="bg.panel"
      borderWidth="1px"
      borderColor="line"
      borderLeftWidth="4px"
      borderLeftColor="orange.500"
      rounded="sm"
      px="3"
      py="2"
      fontSize="xs"
    >
      <Text fontWeight="600">Practice clock</Text>
      <Text fontVariantNumeric="tabular-nums">
        {now.toLocaleDateString("en-GB", {
          weekday: "short",
          day: "numeric",
          month: "short",
          timeZone: "UTC",
        })}{" "}
        {now.toISOString().slice(11, 16)} UTC
      </Text>
      <Text color="fg.quiet">{status.data.rate} × real time</Text>
    </Box>
  );
}

function ChangePassword() {
  const [before, setBefore] = useState("");
  const [after, setAfter] = useState("");
  return (
    <FormDialog
      label="Password"
      actLabel="Change it"
      title="Change your password"
      done="Your password is changed."
      button={{ flex: "1" }}
      onOpen={() => {
        setBefore("");
        setAfter("");
      }}
      submit={() => call(api.POST("/api/v1/password", { body: { old: before, new: after } }))}
    >
      <Text color="fg.quiet">Your other sessions and your tokens end.</Text>
      <Field.Root required>
        <Field.Label>Old password</Field.Label>
        <Input
          type="password"
          autoComplete="current-password"
          value={before}
          onChange={(e) => setBefore(e.target.value)}
        />
      </Field.Root>
      <Field.Root required>
        <Field.Label>New password, of ten characters or more</Field.Label>
        <Input
          type="password"
          autoComplete="new-password"
          value={after}
          onChange={(e) => setAfter(e.target.value)}
        />
      </Field.Root>
    </FormDialog>
  );
}

export function Layout() {
  const { account, may, signOut } = useSigned();
  const connected = useLive();
  const [dark, setDark] = useState(isDark);
  const [open, setOpen] = useState(false);
  const { pathname } = useLocation();
  // biome-ignore lint/correctness/useExhaustiveDependencies: going to a page closes the menu
  useEffect(() => setOpen(false), [pathname]);
  return (
    <Flex minH="100vh" direction={{ base: "column", md: "row" }}>
      <Box asChild position="absolute" left="-999px" _focus={{ left: "2", top: "2", zIndex: 10 }}>
        <a href="#content">Skip to the content</a>
      </Box>
      <Flex
        as="header"
        direction="column"
        w={{ md: "180px" }}
        flexShrink={0}
        bg="bg.rail"
        borderRightWidth={{ md: "1px" }}
        borderBottomWidth={{ base: "1px", md: "0" }}
        borderColor="line"
        p="3"
        gap="4"
        position={{ md: "sticky" }}
        top="0"
        h={{ md: "100vh" }}
        overflowY={{ md: "auto" }}
      >
        <HStack px="2" pt="1" gap="2">
          <img src="/icon.svg" alt="" width="24" height="24" />
          <Text fontWeight="650" fontSize="md">
            Nimble Pane
          </Text>
          <Button
            size="xs"
            variant="outline"
            ms="auto"
            hideFrom="md"
            aria-expanded={open}
            aria-controls="pages"
            onClick={() => setOpen(!open)}
          >
            Menu
          </Button>
        </HStack>
        <VStack
          as="nav"
          id="pages"
          align="stretch"
          gap="1"
          aria-label="Pages"
          display={{ base: open ? "flex" : "none", md: "flex" }}
        >
          {pages
            .filter((p) => !p.role || may(p.role))
            .map((p) => (
              <Box
                key={p.to}
                asChild
                rounded="sm"
                px="2"
                py="1.5"
                _hover={{ bg: "deep.muted" }}
                css={{
                  "&[aria-current=page]": {
                    bg: "deep.muted",
                    fontWeight: 600,
                    boxShadow: "inset 3px 0 0 var(--chakra-colors-deep-solid)",
                  },
                }}
              >
                <NavLink to={p.to} end={p.to === "/"}>
                  <HStack>
                    <p.icon size={16} aria-hidden /> <span>{p.label}</span>
                  </HStack>
                </NavLink>
              </Box>
            ))}
        </VStack>
        <Box flex="1" hideBelow="md" />
        {!connected && (
          <Text role="status" fontSize="xs" fontWeight="600" color="red.fg">
            No connection; what is shown may be old.
          </Text>
        )}
        <VStack align="stretch" gap="4" display={{ base: open ? "flex" : "none", md: "flex" }}>
          <PracticeClock />
          <Box fontSize="sm" px="1">
            <Text fontWeight="600">{account.title || account.name}</Text>
            <Text color="fg.quiet">{account.role}</Text>
          </Box>
          <HStack>
            <ChangePassword />
            <Button size="xs" variant="outline" flex="1" onClick={() => void signOut()}>
              Sign out
            </Button>
            <IconButton
              size="xs"
              variant="outline"
              aria-label={dark ? "Light colours" : "Dark colours"}
              onClick={() => {
                chooseDark(!dark);
                setDark(!dark);
              }}
            >
              {dark ? <Sun /> : <Moon />}
            </IconButton>
          </HStack>
        </VStack>
      </Flex>
      <Box as="main" id="content" flex="1" minW="0" tabIndex={-1} _focusVisible={{ outline: "none" }}>
        <Outlet />
      </Box>
      <Toaster toaster={toaster}>
        {(toast) => (
          <Toast.Root width="sm">
            <Toast.Indicator />
            <Toast.Title>{toast.title}</Toast.Title>
            <Toast.CloseTrigger />
          </Toast.Root>
        )}
      </Toaster>
    </Flex>
  );
}
