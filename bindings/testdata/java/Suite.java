import java.io.File;
import java.nio.file.Files;
import java.util.Arrays;
import java.util.concurrent.*;
import java.util.concurrent.atomic.*;
import boards.Boards;
import boards.Call;
import mobile.*;

/** What an app in Java may rely on: each scene is a process of its own. */
public class Suite {
    /** The keys of an app, one of each kind. */
    static class App {
        final Keys keys = Mobile.newKeys();
        final IntKey hour = keys.intKey("reminder-hour", 18).between(0, 23);
        final IntKey exact = keys.intKey("exact", 0);
        final FloatKey spacing = keys.floatKey("spacing-m", 0.3);
        final BoolKey frost = keys.boolKey("frost/warning", false);
        final TextKey plot = keys.textKey("plot", "");
        final TextKey units = keys.choiceKey("units", Mobile.newTexts().add("metric").add("imperial"));
        final TextKey code = keys.textKey("gate-code", "").sealed();
        final BytesKey photo = keys.bytesKey("photo", null);
        final TimeKey sown = keys.timeKey("sown", 0);
        final DurationKey pause = keys.durationKey("pause", 90_000);
        final ListKey queue = keys.listKey("hose/queue", "text");

        Namespace open(String dir) throws Exception {
            return Mobile.open(dir, "plotbook", keys, Mobile.newOptions().seal(new byte[32]).clientName("plotbook"));
        }
    }

    public static void main(String[] args) {
        try {
            play(args);
        } catch (Throwable e) {
            e.printStackTrace();
            System.exit(1); // whatever threads there are
        }
        System.exit(0);
    }

    static void play(String[] args) throws Exception {
        String dir = args[1];
        switch (args[0]) {
            case "write": write(dir); break;
            case "read": read(dir); break;
            case "refusals": refusals(dir); break;
            case "commit": commit(dir); break;
            case "watch": watch(dir); break;
            case "count": count(dir, Integer.parseInt(args[2])); break;
            case "sum": sum(dir, Long.parseLong(args[2])); break;
            case "many": many(dir); break;
            case "measure": measure(dir); break;
            case "board": board(dir, args[2]); break;
            default: throw new IllegalArgumentException(args[0]);
        }
        System.out.println("ok");
    }

    /** Stores each kind, and ends with nothing closed. */
    static void write(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        a.hour.bind(ns).set(7);
        a.exact.bind(ns).set(9007199254740993L); // 2^53 + 1
        a.spacing.bind(ns).set(5.0);
        a.frost.bind(ns).set(true);
        a.plot.bind(ns).set("C4 \uD83C\uDF31");
        a.units.bind(ns).set("imperial");
        a.code.bind(ns).set("a word that nobody reads");
        a.photo.bind(ns).set(new byte[] {0, (byte) 255, 7});
        a.sown.bind(ns).set(1777799564123L);
        a.pause.bind(ns).set(1500);
        ListVar queue = a.queue.bind(ns);
        queue.append(Mobile.newItems().addText("C4"), true);
        queue.append(Mobile.newItems().addText("B2"), true);
        queue.append(Mobile.newItems().addText("C4"), true);
        System.out.println("ok");
        System.out.flush();
        new ProcessBuilder("kill", "-9", Long.toString(ProcessHandle.current().pid())).start();
        Thread.sleep(60_000);
    }

    static void read(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        same(7L, a.hour.bind(ns).get());
        same(9007199254740993L, a.exact.bind(ns).get());
        same(5.0, a.spacing.bind(ns).get());
        same(true, a.frost.bind(ns).get());
        same("C4 \uD83C\uDF31", a.plot.bind(ns).get());
        same("imperial", a.units.bind(ns).get());
        same("a word that nobody reads", a.code.bind(ns).get());
        same("[0, -1, 7]", Arrays.toString(a.photo.bind(ns).get()));
        same(1777799564123L, a.sown.bind(ns).get());
        same(1500L, a.pause.bind(ns).get());
        Items queue = a.queue.bind(ns).get();
        same(2L, queue.len());
        same("C4", queue.getText(0));
        String file = Files.readString(new File(ns.path()).toPath());
        if (file.contains("nobody reads")) throw new AssertionError("it lies open in the file");
        if (!file.contains("\"value\":5.0")) throw new AssertionError("5.0 is 5: " + file);
        Entries all = ns.entries("spacing");
        same("5.0", all.at(0).getJSON());
        ns.close();
    }

    interface Attempt { void run() throws Exception; }

    /** Each of these is an exception with a code and a sentence, and never the end. */
    static void refusals(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        refused("invalid", () -> a.hour.bind(ns).set(24));
        refused("invalid", () -> a.hour.parse("noon"));
        refused("invalid", () -> a.units.bind(ns).set("cubits"));
        refused("absent", () -> a.queue.bind(ns).take(0));
        refused("misuse", () -> new IntVar().set(1));
        refused("misuse", () -> new IntKey().bind(ns));
        refused("misuse", () -> a.hour.bind(null));
        refused("misuse", () -> new App().hour.bind(ns));
        refused("misuse", () -> a.queue.bind(ns).set(null));
        refused("misuse", () -> new Namespace().close());
        refused("misuse", () -> ns.commit(null));
        refused("misuse", () -> Mobile.newTexts().at(3));
        Keys bad = Mobile.newKeys();
        bad.intKey("", 0);
        refused("misuse", () -> Mobile.open(dir, "other", bad, null));
        refused("misuse", () -> Mobile.open(dir, "other", Mobile.newKeys(), Mobile.newOptions().seal(new byte[3])));
        refused("invalid", () -> Mobile.open(dir, "Plot Book", Mobile.newKeys(), null));
        ns.close();
        refused("closed", () -> a.hour.bind(ns).set(1));
    }

    static void refused(String code, Attempt call) {
        try {
            call.run();
        } catch (Exception e) {
            same(code, Mobile.code(e.getMessage()));
            if (Mobile.sentence(e.getMessage()).length() < 8) throw new AssertionError("no sentence: " + e.getMessage());
            return;
        }
        throw new AssertionError("not refused: " + code);
    }

    /** A commit that throws stores nothing. */
    static void commit(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        try {
            ns.commit(b -> {
                a.hour.in(b).set(7);
                throw new Exception("the app wants it not");
            });
            throw new AssertionError("it was not told");
        } catch (Exception e) {
            if (!e.getMessage().contains("the app wants it not")) throw e;
        }
        same(18L, a.hour.bind(ns).get());
        ns.commit(b -> {
            a.hour.in(b).set(7);
            a.plot.in(b).set("C4");
        });
        same(7L, a.hour.bind(ns).get());
        same("C4", a.plot.bind(ns).get());
        ns.close();
    }

    /** Changes are told on a thread of the app's, the newest at last. */
    static void watch(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        IntVar n = a.exact.bind(ns);
        ExecutorService screen = Executors.newSingleThreadExecutor(r -> new Thread(r, "screen"));
        AtomicLong seen = new AtomicLong(-1);
        AtomicInteger calls = new AtomicInteger();
        CountDownLatch written = new CountDownLatch(1);
        ConcurrentHashMap<String, Boolean> threads = new ConcurrentHashMap<>();
        mobile.Runner runner = t -> screen.execute(t::run);
        Watching w = n.watch(runner, () -> {
            threads.put(Thread.currentThread().getName(), true);
            calls.incrementAndGet();
            try {
                written.await(); // the screen is busy until the last write
                seen.set(n.get());
            } catch (Exception e) {
                throw new RuntimeException(e);
            }
        });
        for (int i = 1; i <= 200; i++) n.set(i);
        written.countDown();
        for (int i = 0; i < 2000 && seen.get() != 200; i++) Thread.sleep(5);
        same(200L, seen.get());
        same("[screen]", threads.keySet().toString());
        if (calls.get() > 20) throw new AssertionError("it skipped nothing: " + calls.get());
        w.stop();
        screen.shutdown();
        ns.close();
    }

    /** One of several processes that add to the same number. */
    static void count(String dir, int times) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        IntVar n = a.exact.bind(ns);
        for (int i = 0; i < times; i++) n.add(1);
        ns.close();
    }

    /** A board, through an outage: what is done meanwhile is kept, and counts once. */
    static void board(String dir, String link) throws Exception {
        Keys keys = Mobile.newKeys();
        IntKey litres = keys.intKey("tank/litres", 0).between(0, 5000);
        boards.Board board = Boards.join(link, keys, Boards.newOptions().clientName("tankwatch").offline(dir).timeout(2000));
        boards.IntVar tank = board.intVar(litres);
        Call call = Boards.newCall();
        tank.set(call, 420);
        same(400L, tank.add(call, -20));
        board.ready(call);
        System.out.println("cut");
        System.out.flush();
        for (int i = 0; i < 1000 && board.trouble().isEmpty(); i++) Thread.sleep(10);
        same("unreachable", Mobile.code(board.trouble()));
        same(390L, tank.add(call, -10)); // it counts later
        same(400L, tank.get());
        same(390L, tank.waiting());
        same(1L, board.pending());
        same("queued", tank.state().getPhase());
        System.out.println("back");
        System.out.flush();
        for (int i = 0; i < 2000 && board.pending() > 0; i++) Thread.sleep(10);
        same(390L, tank.add(call, 0));
        refused("misuse", () -> board.intVar(Mobile.newKeys().intKey("tank/litres", 0)));
        System.out.println("slow");
        System.out.flush();
        Thread.sleep(500);
        new Thread(() -> { pause(50); call.giveUp(); }).start();
        refused("given-up", () -> tank.set(call, 1));
        board.close();
    }

    static void pause(long millis) {
        try {
            Thread.sleep(millis);
        } catch (InterruptedException e) {
            throw new RuntimeException(e);
        }
    }

    static void sum(String dir, long want) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        same(want, a.exact.bind(ns).get());
        ns.close();
    }

    /** How many nanoseconds a read, a bind and a durable write take. */
    static void measure(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        IntVar hour = a.hour.bind(ns);
        long[] best = {Long.MAX_VALUE, Long.MAX_VALUE, Long.MAX_VALUE};
        for (int round = 0; round < 5; round++) { // the JVM warms up in the first ones
            long begun = System.nanoTime();
            for (int i = 0; i < 1_000_000; i++) hour.get();
            best[0] = Math.min(best[0], (System.nanoTime() - begun) / 1_000_000);
            begun = System.nanoTime();
            for (int i = 0; i < 50_000; i++) a.hour.bind(ns);
            best[1] = Math.min(best[1], (System.nanoTime() - begun) / 50_000);
            begun = System.nanoTime();
            for (int i = 0; i < 2_000; i++) hour.set(i % 24);
            best[2] = Math.min(best[2], (System.nanoTime() - begun) / 2_000);
        }
        System.out.println(best[0] + " " + best[1] + " " + best[2]);
        ns.close();
    }

    /** 10,000 variables and a million reads leave nothing behind. */
    static void many(String dir) throws Exception {
        App a = new App();
        Namespace ns = a.open(dir);
        a.hour.bind(ns).set(7);
        long sum = 0;
        for (int i = 0; i < 10_000; i++) {
            IntVar v = a.hour.bind(ns);
            for (int k = 0; k < 100; k++) sum += v.get();
        }
        same(7_000_000L, sum);
        nothingLeft();
        ns.close();
    }

    /** What Java has let go of, Go is told of by and by, so that nothing of it is left. */
    static void nothingLeft() throws Exception {
        java.lang.reflect.Field queue = go.Seq.class.getDeclaredField("goRefQueue");
        queue.setAccessible(true);
        Object held = queue.get(null);
        java.lang.reflect.Field refs = held.getClass().getDeclaredField("refs");
        refs.setAccessible(true);
        int left = Integer.MAX_VALUE;
        for (int i = 0; i < 200 && left > 100; i++) {
            System.gc();
            Thread.sleep(20);
            left = ((java.util.Collection<?>) refs.get(held)).size();
        }
        if (left > 100) throw new AssertionError(left + " references are left");
    }

    static void same(Object want, Object got) {
        if (!want.equals(got)) throw new AssertionError("want " + want + ", got " + got);
    }
}
