import { Box, Button, Drawer, Flex, Portal, Text } from "@chakra-ui/react";
import { LogOut, Menu, Moon, Search, Sun } from "lucide-react";
import { lazy, Suspense, useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { actionsNow, type Action } from "../lib/actions";
import { Toasts } from "../ui";
import { useColourMode } from "./colour";
import { useLive } from "./live";
import { rail } from "./pages";
import { useSession } from "../lib/who";

const Palette = lazy(() => import("./palette"));

/** What every page has around it: the rail or, on narrow screens, a bar with a drawer. */
export function Shell() {
  const { who, signedIn } = useSession();
  const live = useLive(signedIn);
  const { pathname } = useLocation();
  // The menu is open for one page, and closes when another one is opened.
  const [menuAt, setMenuAt] = useState("");
  const menu = menuAt === pathname;
  const setMenu = (open: boolean) => setMenuAt(open ? pathname : "");
  // What could be done on the page when the palette was opened; null while it is closed.
  const [palette, setPalette] = useState<Action[] | null>(null);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() !== "k" || !(e.ctrlKey || e.metaKey)) return;
      e.preventDefault();
      setPalette(actionsNow());
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, []);
  const nav = <Rail live={live} search={() => setPalette(actionsNow())} />;
  return (
    <Flex minH="100vh" direction={{ base: "column", lg: "row" }}>
      <Box asChild position="absolute" left="-999px" _focus={{ left: "8px", top: "8px", zIndex: "skipLink", bg: "sheet", px: "3", py: "2" }}>
        <a href="#content">To the content</a>
      </Box>
      <Flex display={{ base: "flex", lg: "none" }} as="header" align="center" gap="3" bg="rail" color="railInk" px="3" py="1.5" position="sticky" top="0" zIndex="docked">
        <Button size="sm" variant="plain" color="railInk" aria-label="Menu" aria-expanded={menu} onClick={() => setMenu(true)}>
          <Menu size={18} />
        </Button>
        <img src="/console/mark.svg" width="20" height="20" alt="" />
        <Text fontWeight="700" color="white" flex="1">
          Ubiquon
        </Text>
        <Button size="sm" variant="plain" color="railInk" aria-label="Search and commands" onClick={() => setPalette(actionsNow())}>
          <Search size={17} />
        </Button>
      </Flex>
      <Box display={{ base: "none", lg: "block" }} w="188px" flex="none" position="sticky" top="0" h="100vh">
        {nav}
      </Box>
      <Drawer.Root open={menu} onOpenChange={(e) => setMenu(e.open)} placement="start" size="xs">
        <Portal>
          <Drawer.Backdrop bg="blackAlpha.500" />
          <Drawer.Positioner>
            <Drawer.Content maxW="220px" bg="rail" aria-label="Menu">
              {nav}
            </Drawer.Content>
          </Drawer.Positioner>
        </Portal>
      </Drawer.Root>
      <Box flex="1" minW="0" key={who.name}>
        <Outlet />
      </Box>
      {palette && (
        <Suspense>
          <Palette actions={palette} close={() => setPalette(null)} />
        </Suspense>
      )}
      <Toasts />
    </Flex>
  );
}

function Rail({ live, search }: { live: boolean; search: () => void }) {
  const { who, signOut } = useSession();
  const colour = useColourMode();
  return (
    <Flex as="nav" aria-label="Pages" direction="column" bg="rail" color="railInk" py="4" h="full" overflowY="auto">
      <Flex align="center" gap="2" px="4" mb="1">
        <img src="/console/mark.svg" width="22" height="22" alt="" />
        <Text fontWeight="700" fontSize="16px" color="white">
          Ubiquon
        </Text>
      </Flex>
      <Text px="4" mb="3" fontSize="12px" fontFamily="mono" title="Environment">
        {who.environment}
      </Text>
      <Button mx="3" mb="2" size="xs" variant="outline" borderColor="whiteAlpha.500" color="railInk" justifyContent="flex-start" onClick={search} aria-keyshortcuts="Control+K" display={{ base: "none", lg: "inline-flex" }}>
        <Search size={13} /> Search
        <Text as="span" ml="auto" fontFamily="mono" fontSize="11px">
          Ctrl K
        </Text>
      </Button>
      {rail
        .filter((item) => !item.admins || who.may.administer)
        .map((item) => (
          <Box key={item.to}>
            {item.group && (
              <Text px="4" pt="3" pb="1" fontSize="11px" color="railInk">
                {item.group}
              </Text>
            )}
            <NavLink to={item.to} end={item.to === "/"} style={{ textDecoration: "none", color: "inherit" }}>
              {({ isActive }) => (
                <Flex align="center" gap="2.5" px="4" py="1.5" bg={isActive ? "whiteAlpha.200" : undefined} color={isActive ? "white" : undefined} borderLeftWidth="3px" borderColor={isActive ? "#f6c667" : "transparent"} _hover={{ bg: "whiteAlpha.100" }}>
                  {item.icon}
                  {item.name}
                </Flex>
              )}
            </NavLink>
          </Box>
        ))}
      <Box flex="1" minH="3" />
      <Text px="4" fontSize="12px" mb="2" role="status">
        {live ? "● live" : "○ not connected, trying"}
      </Text>
      <NavLink to="/you" style={{ textDecoration: "none", color: "inherit" }} title={"Your account: sessions and password\n" + who.grants.join("\n")}>
        <Text px="4" py="1" fontSize="12px" truncate _hover={{ color: "white" }}>
          {who.name}
        </Text>
      </NavLink>
      <Flex px="2">
        <Button size="xs" variant="plain" color="railInk" onClick={colour.toggle} aria-label={colour.mode === "dark" ? "Light colours" : "Dark colours"}>
          {colour.mode === "dark" ? <Sun size={15} /> : <Moon size={15} />}
        </Button>
        <Button size="xs" variant="plain" color="railInk" onClick={signOut}>
          <LogOut size={15} /> Sign out
        </Button>
      </Flex>
    </Flex>
  );
}
