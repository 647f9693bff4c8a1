import { useQuery } from "@tanstack/react-query";
import { meQuery } from "../../api/queries";
import { Empty, Head, Loading } from "../../parts/controls";
import { SecondFactor } from "./factor";
import { OwnPassword } from "./password";
import { OwnSessions } from "./sessions";

/** How one signs in oneself: password, second factor, passkeys, and where one is signed in. */
export default function You() {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading />;
  return (
    <>
      <Head title={me.data?.name ?? "You"} sub={me.data?.id ? `${me.data.email}, ${me.data.role}` : "How you sign in"} />
      {me.data?.id ? (
        <div className="flex flex-col gap-9">
          <OwnPassword email={me.data.email ?? ""} />
          <SecondFactor />
          <OwnSessions />
        </div>
      ) : (
        <Empty>A token signs in nowhere.</Empty>
      )}
    </>
  );
}
