import { Text } from "@chakra-ui/react";
import { Link, useRouteError } from "react-router";
import { Act, Mono, Page } from "../ui";

/** What an address leads to that no page has. */
export function NotFoundPage() {
  return (
    <Page title="No such page">
      <Text mb="3">
        There is nothing at <Mono>{location.pathname}</Mono>. The address may be mistyped, or of another version.
      </Text>
      <Link to="/">To Now</Link>
    </Page>
  );
}

/** What an address leads to that names an environment which this service does not serve. */
export function NoEnvironmentPage({ present }: { present: string }) {
  return (
    <Page title="No such environment">
      <Text mb="3">
        This service has no environment <Mono>{location.pathname.split("/")[2]}</Mono>.
      </Text>
      <a href={`/console/${present}/`}>To {present}</a>
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
