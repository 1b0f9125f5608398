import { Text } from "@chakra-ui/react";
import { Link, useLocation, useRouteError } from "react-router";
import { Act, Mono, Page } from "../parts";

/** What an address leads to that no page has. */
export function NotFoundPage() {
  const at = useLocation();
  return (
    <Page title="No such page">
      <Text mb="3">
        There is nothing at <Mono>/console{at.pathname}</Mono>. The address may be mistyped, or of another version.
      </Text>
      <Link to="/">To Now</Link>
    </Page>
  );
}

/** What shows in place of a page that has failed; the others go on. */
export function FailedPage() {
  const error = useRouteError();
  return (
    <Page title="This page has failed">
      <Text mb="1">What you typed elsewhere is kept. Loading the page again may help; if it does not, report this:</Text>
      <Mono display="block" mb="4" color="failure">
        {error instanceof Error ? error.message : String(error)}
      </Mono>
      <Act onClick={() => location.reload()}>Load it again</Act>
    </Page>
  );
}
