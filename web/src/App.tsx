import { Navigate, Route, Routes, useLocation } from "react-router";
import { Refused } from "./api/client";
import { useMe } from "./api/queries";
import { NowPage } from "./pages/NowPage";
import { SignInPage } from "./pages/SignInPage";
import { Fallen } from "./parts/Fallen";
import { Masthead } from "./parts/Masthead";
import { Tour } from "./parts/Tour";
import { useClocks } from "./parts/zone";
import { places } from "./places";

/** Without a valid token there is only the door. */
function Inside() {
  const me = useMe();
  const { pathname } = useLocation();
  const { clocks, zone } = useClocks(pathname);
  if (me.error instanceof Refused && me.error.status === 401) return <Navigate to="/sign-in" />;
  if (me.isPending) return null;
  return (
    <>
      <Masthead clocks={clocks} zone={zone} />
      <Tour />
      <Fallen key={`${pathname} ${clocks}`}>
        <Routes>
          <Route index element={<NowPage />} />
          {places.map(({ path, View }) => (
            <Route key={path} path={path} element={<View key={path} />} />
          ))}
          <Route path="*" element={<Navigate to="/" />} />
        </Routes>
      </Fallen>
    </>
  );
}

export function App() {
  return (
    <Routes>
      <Route path="/sign-in" element={<SignInPage />} />
      <Route path="*" element={<Inside />} />
    </Routes>
  );
}
