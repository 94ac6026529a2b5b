package nightdrill;

import java.io.BufferedInputStream;
import java.io.File;
import java.io.FileInputStream;
import java.io.FileOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.lang.reflect.Constructor;
import java.lang.reflect.InvocationTargetException;
import java.lang.reflect.Method;
import java.lang.reflect.Modifier;
import java.lang.reflect.Type;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Runs a plain handler for Night Drill: finds NAME on the class path and answers what comes over pairs of inherited
 * descriptors, from 3 on, one pair for each slot. See docs/loaders.md for the framing. Only the standard library is
 * used; there are no lambdas, as the first of them costs a start more than all of this.
 */
final class Loader implements Runnable {
  private static final long BEGAN = System.nanoTime();
  private static final int MOST_FRAMES = 40;
  private static final List<Loader> ALL = new ArrayList<>();

  /** What cannot be loaded, and why. */
  @SuppressWarnings("serial")
  static final class Unloadable extends Exception {
    final Map<String, Object> report;

    Unloadable(String kind, String message, Throwable cause) {
      super(message, cause);
      report = report(kind, message, cause);
    }

    /** at adds the place of a method. */
    Unloadable at(Class<?> c, String method) {
      report.put("file", Finder.source(c));
      report.put("line", Finder.line((String) report.get("file"), method));
      return this;
    }
  }

  private static Object handler; // null for a static method
  private static Method method;
  private static Type[] parameters;
  private static boolean server; // it takes an HttpExchange
  private static String name;
  private static String takes;
  private static volatile boolean ready;

  private final int slot;
  private final InputStream in;
  private final OutputStream out;
  private byte[] head = new byte[4096];
  private volatile long open; // the number of what is in progress; 0 for nothing

  private Loader(int slot) throws IOException {
    this.slot = slot;
    in = new BufferedInputStream(new FileInputStream("/dev/fd/" + (3 + 2 * slot)), 64 << 10);
    out = new FileOutputStream("/dev/fd/" + (4 + 2 * slot));
  }

  public static void main(String[] args) throws Exception {
    String file = args[0];
    name = args[1];
    takes = args[4];
    int slots = Integer.parseInt(args[3]);
    for (int i = 0; i < slots; i++) ALL.add(new Loader(i));
    Runtime.getRuntime().addShutdownHook(new Thread() {
      @Override
      public void run() { leaving(); }
    });
    long loading = System.nanoTime();
    try {
      load(file);
    } catch (Unloadable e) {
      ALL.get(0).hello(e.report);
      if (e.getCause() == null) System.err.println(e.getMessage());
      else print(e.getCause());
      System.err.flush();
      Runtime.getRuntime().halt(3);
    }
    long loaded = System.nanoTime();
    ready = true;
    for (Loader l : ALL) {
      Map<String, Object> hello = new LinkedHashMap<>();
      hello.put("slot", l.slot);
      hello.put("loader_ns", loading - BEGAN);
      hello.put("load_ns", loaded - loading);
      l.send(0, hello, new byte[0], 0);
    }
    for (int i = 1; i < slots; i++) {
      Thread t = new Thread(ALL.get(i), "slot " + (i + 1));
      t.setDaemon(true);
      t.start();
    }
    ALL.get(0).run();
    System.out.flush();
    Runtime.getRuntime().halt(0);
  }

  // ---- finding the handler

  private static void load(String file) throws Unloadable {
    if (!new File(file).exists()) throw new Unloadable("no-file", "no file " + file, null);
    int dot = name.lastIndexOf('.');
    String last = name.substring(dot + 1);
    // by custom a class begins with a capital letter; the other reading comes second
    Class<?> c = null;
    boolean whole = Character.isUpperCase(last.charAt(0));
    for (int turn = 0; turn < 2 && c == null; turn++, whole = !whole) {
      if (whole || dot > 0) c = find(whole ? name : name.substring(0, dot));
      if (c != null) break;
    }
    if (c == null) {
      String wanted = dot > 0 && !Character.isUpperCase(last.charAt(0)) ? name.substring(0, dot) : name;
      throw new Unloadable("no-name", file + " has no class " + wanted + near(wanted, Finder.classes(new File(file))),
          null);
    }
    String named = whole ? null : last;
    method = choose(c, named, file);
    method.setAccessible(true);
    parameters = method.getGenericParameterTypes();
    if (parameters.length == 2 && takes.equals("request")) {
      throw new Unloadable("arity", called() + " has 2 parameters; with takes: request it has one, an HttpExchange",
          null).at(c, last);
    }
    server = parameters.length == 1 && parameters[0].getTypeName().equals("com.sun.net.httpserver.HttpExchange");
    if (takes.equals("request") && !server) {
      throw new Unloadable("not-callable", called() + " takes no HttpExchange, and takes: request needs a method that "
          + "does, such as that of an HttpHandler", null).at(c, last);
    }
    if (server && !takes.equals("request")) {
      throw new Unloadable("not-callable", called() + " takes an HttpExchange, which needs takes: request", null).at(c, last);
    }
    try { // what is static in it is made ready now, and not with the first event
      Class.forName(c.getName(), true, c.getClassLoader());
      if (!Modifier.isStatic(method.getModifiers())) {
        Constructor<?> k = c.getDeclaredConstructor();
        k.setAccessible(true);
        handler = k.newInstance();
      }
    } catch (NoSuchMethodException e) {
      throw new Unloadable("not-callable", c.getSimpleName() + " has no constructor without parameters; give it one, or "
          + "make " + method.getName() + " static", null).at(c, c.getSimpleName());
    } catch (InstantiationException e) {
      throw new Unloadable("not-callable", c.getSimpleName() + " is abstract, and " + method.getName() + " is not static",
          null).at(c, c.getSimpleName());
    } catch (Throwable e) {
      throw failed(e);
    }
  }

  private static Unloadable failed(Throwable e) {
    while ((e instanceof InvocationTargetException || e instanceof ExceptionInInitializerError) && e.getCause() != null) {
      e = e.getCause();
    }
    if (e instanceof NoClassDefFoundError || e instanceof ClassNotFoundException) {
      Unloadable u = new Unloadable("import", "it needs the class " + e.getMessage().replace('/', '.') + ", which is not "
          + "on the class path; add where it is: interpreter: [java, -cp, \"lib/*\"]", e);
      u.report.put("type", "");
      return u;
    }
    return new Unloadable("import", e.getMessage() == null ? "" : e.getMessage(), e);
  }

  /** find returns a class by its name, a nested one also with a dot in place of the dollar sign; null for none. */
  private static Class<?> find(String of) throws Unloadable {
    while (true) {
      try {
        return Class.forName(of, false, Loader.class.getClassLoader());
      } catch (ClassNotFoundException e) {
        int dot = of.lastIndexOf('.');
        if (dot < 0 || !Character.isUpperCase(of.charAt(of.lastIndexOf('.', dot - 1) + 1))) return null;
        of = of.substring(0, dot) + '$' + of.substring(dot + 1);
      } catch (UnsupportedClassVersionError e) {
        throw new Unloadable("import", "it was compiled for a newer Java than " + System.getProperty("java.version")
            + ": " + e.getMessage(), null);
      } catch (NoClassDefFoundError e) { // on a disk that does not tell capital letters apart, or what it extends
        if (e.getMessage() != null && e.getMessage().contains("wrong name")) return null;
        throw failed(e);
      } catch (LinkageError e) {
        throw failed(e);
      }
    }
  }

  /** choose returns the method that a name means; without one, that of the interface that the class implements. */
  private static Method choose(Class<?> c, String named, String file) throws Unloadable {
    List<Method> fit = new ArrayList<>();
    List<String> names = new ArrayList<>();
    int most = 0;
    try {
      for (Class<?> of = c; of != null && of != Object.class; of = of.getSuperclass()) {
        for (Method m : of.getDeclaredMethods()) {
          if (m.isSynthetic() || m.isBridge() || Modifier.isAbstract(m.getModifiers())) continue;
          if (named == null ? Modifier.isPublic(m.getModifiers()) && of == c : m.getName().equals(named)) {
            most = Math.max(most, m.getParameterCount());
            if (m.getParameterCount() <= 2) fit.add(m);
          }
          names.add(m.getName());
        }
        if (named != null && !fit.isEmpty()) break;
      }
    } catch (NoClassDefFoundError e) {
      throw failed(e);
    }
    String whole = c.getSimpleName() + (named == null ? "" : "." + named);
    if (fit.size() == 1) return fit.get(0);
    if (named == null) {
      for (Class<?> i : c.getInterfaces()) {
        for (Method m : i.getMethods()) {
          for (Method x : fit) if (Modifier.isAbstract(m.getModifiers()) && x.getName().equals(m.getName())) return x;
        }
      }
      throw new Unloadable("not-callable", whole + (fit.isEmpty() ? " has no public method" : " has several public methods")
          + "; name one: " + whole + "." + (names.isEmpty() ? "handle" : names.get(0)), null);
    }
    if (fit.isEmpty() && most > 0) {
      throw new Unloadable("arity", whole + " has " + most + " parameters; a handler gets the event, and, if it has a "
          + "second one, the context", null).at(c, named);
    }
    if (fit.isEmpty()) {
      throw new Unloadable("no-name", c.getName() + " has no method " + named + near(named, names), null);
    }
    throw new Unloadable("arity", whole + " exists in " + fit.size() + " forms, and it is not clear which is meant", null).at(c, named);
  }

  static String near(String word, List<String> all) {
    String best = null;
    int least = Math.max(2, word.length() / 3);
    for (String s : all) {
      int d = distance(word, s);
      if (d <= least && !s.equals(word)) {
        least = d - 1;
        best = s;
      }
    }
    return best == null ? "" : " (did you mean " + best + "?)";
  }

  private static int distance(String a, String b) {
    int[] row = new int[b.length() + 1];
    for (int j = 0; j < row.length; j++) row[j] = j;
    for (int i = 1; i <= a.length(); i++) {
      int before = row[0]++;
      for (int j = 1; j < row.length; j++) {
        int next = Math.min(Math.min(row[j], row[j - 1]) + 1, before + (a.charAt(i - 1) == b.charAt(j - 1) ? 0 : 1));
        before = row[j];
        row[j] = next;
      }
    }
    return row[b.length()];
  }

  private static String called() { return method.getDeclaringClass().getSimpleName() + "." + method.getName(); }

  // ---- errors

  private static boolean users(StackTraceElement f) {
    String c = f.getClassName();
    return !(c.startsWith("nightdrill.") || c.startsWith("java.") || c.startsWith("jdk.") || c.startsWith("javax.")
        || c.startsWith("sun.") || c.startsWith("com.sun."));
  }

  static Map<String, Object> report(String kind, String message, Throwable e) {
    Map<String, Object> r = new LinkedHashMap<>();
    List<Object> trace = new ArrayList<>();
    r.put("kind", kind);
    r.put("type", e == null ? "" : e.getClass().getSimpleName());
    r.put("message", message);
    r.put("file", "");
    r.put("line", 0);
    if (e != null) place(r, trace, e.getStackTrace());
    r.put("trace", trace);
    return r;
  }

  private static void place(Map<String, Object> r, List<Object> trace, StackTraceElement[] stack) {
    for (StackTraceElement f : stack) {
      if (!users(f) || trace.size() == MOST_FRAMES) continue;
      String file = Finder.source(f);
      if (trace.isEmpty()) {
        r.put("file", file);
        r.put("line", Math.max(f.getLineNumber(), 0));
      }
      trace.add(file + ":" + f.getLineNumber() + " in " + f.getClassName().substring(f.getClassName().lastIndexOf('.') + 1)
          + "." + f.getMethodName());
    }
  }

  /** print writes an error to the log, without our frames. */
  private static void print(Throwable e) {
    StringBuilder text = new StringBuilder();
    for (int n = 0; e != null && n < 8; e = e.getCause(), n++) {
      text.append(n == 0 ? "" : "caused by ").append(e).append('\n');
      int shown = 0;
      for (StackTraceElement f : e.getStackTrace()) {
        if (users(f) && shown++ < MOST_FRAMES) text.append("  at ").append(f).append('\n');
      }
    }
    System.err.print(text);
    System.err.flush();
  }

  /** leaving answers what is in progress where the user's code ends the process. */
  private static void leaving() {
    for (Map.Entry<Thread, StackTraceElement[]> t : Thread.getAllStackTraces().entrySet()) {
      for (StackTraceElement f : t.getValue()) {
        if (!f.getClassName().equals("java.lang.Runtime") || !f.getMethodName().equals("exit")) continue;
        Map<String, Object> error = report("exit", ready ? "it called System.exit"
            : "it calls System.exit while it is loaded", null);
        List<Object> trace = new ArrayList<>();
        place(error, trace, t.getValue());
        error.put("trace", trace);
        try {
          if (!ready) ALL.get(0).hello(error);
          for (Loader l : ALL) if (l.open != 0) l.fail((int) l.open, error, 0);
        } catch (IOException e) {
          // Night Drill is gone
        }
        return;
      }
    }
  }

  // ---- invocations

  @Override
  public void run() {
    byte[] lengths = new byte[12];
    try {
      while (in.readNBytes(lengths, 0, 12) == 12) {
        int number = number(lengths, 0);
        int size = number(lengths, 4);
        byte[] body = new byte[number(lengths, 8)];
        if (head.length < size) head = new byte[size];
        if (in.readNBytes(head, 0, size) < size || in.readNBytes(body, 0, body.length) < body.length) return;
        open = number & 0xffffffffL;
        answer(number, (Map<?, ?>) Json.read(head, 0, size), body);
        open = 0;
      }
    } catch (IOException e) {
      // Night Drill is gone
    }
  }

  private static int number(byte[] b, int at) {
    return (b[at] & 255) << 24 | (b[at + 1] & 255) << 16 | (b[at + 2] & 255) << 8 | b[at + 3] & 255;
  }

  private void answer(int number, Map<?, ?> head, byte[] body) throws IOException {
    long began = 0;
    long user = 0;
    boolean returned = false;
    try {
      Object[] given;
      Requests exchange = null;
      if (server && head.get("request") == null) {
        fail(number, report("event-shape", "the handler takes requests, and this is an event", null), 0);
        return;
      }
      if (server) {
        exchange = new Requests((Map<?, ?>) head.get("request"), body);
        given = new Object[] {exchange};
      } else {
        given = arguments(head, body);
      }
      began = System.nanoTime();
      Object value = method.invoke(handler, given);
      if (value instanceof java.util.concurrent.CompletionStage) {
        value = ((java.util.concurrent.CompletionStage<?>) value).toCompletableFuture().get();
      }
      user = System.nanoTime() - began;
      returned = true;
      Map<String, Object> reply = new LinkedHashMap<>();
      byte[] content = new byte[0];
      if (exchange != null) {
        reply.put("kind", "response");
        content = exchange.reply(reply);
      } else if (value == null) {
        reply.put("kind", "nothing");
      } else if (value instanceof byte[]) {
        reply.put("kind", "bytes");
        content = (byte[]) value;
      } else {
        StringBuilder text = new StringBuilder();
        Json.write(text, value, 0);
        reply.put("kind", "json");
        content = text.toString().getBytes(StandardCharsets.UTF_8);
      }
      send(number, reply, content, user);
    } catch (Values.Misfit e) {
      fail(number, report("event-shape", "the " + what(head) + " does not fit the parameter's type "
          + Values.name(parameters[0]) + ": " + e.getMessage(), null), 0);
    } catch (IOException e) {
      throw e;
    } catch (Throwable e) {
      if (began > 0 && user == 0) user = System.nanoTime() - began;
      while ((e instanceof InvocationTargetException || e instanceof java.util.concurrent.ExecutionException)
          && e.getCause() != null) e = e.getCause();
      if (returned) {
        fail(number, report("not-json", "it returned a value that is not JSON: " + e.getMessage(), null), user);
      } else {
        print(e);
        fail(number, report("raised", e.getMessage() == null ? "" : e.getMessage(), e), user);
      }
    }
  }

  private String what(Map<?, ?> head) {
    boolean data = takes.equals("data");
    return head.get("request") != null ? data ? "body" : "request"
        : Boolean.TRUE.equals(head.get("batch")) ? "list of events" : data ? "data" : "event";
  }

  private Object[] arguments(Map<?, ?> head, byte[] body) throws ReflectiveOperationException {
    Object[] given = new Object[parameters.length];
    if (given.length > 0) {
      Object v = argument(head, body, parameters[0] == byte[].class);
      given[0] = parameters[0] == Object.class || v instanceof byte[] && parameters[0] == byte[].class ? v
          : Values.to(v, parameters[0], "");
    }
    if (given.length > 1) given[1] = Values.to(context(head), parameters[1], "");
    return given;
  }

  private static Map<String, Object> context(Map<?, ?> head) {
    Map<String, Object> c = new LinkedHashMap<>();
    c.put("id", head.get("id"));
    c.put("attempt", head.get("attempt"));
    c.put("lastAttempt", head.get("last_attempt"));
    c.put("deadline", head.get("deadline"));
    c.put("leftMs", new Values.Left(((Number) head.get("left_ms")).doubleValue()));
    c.put("instance", head.get("instance"));
    c.put("traceparent", head.get("traceparent"));
    List<?> events = (List<?>) head.get("events");
    c.put("attributes", events == null || events.isEmpty() ? new LinkedHashMap<>()
        : ((Map<?, ?>) events.get(0)).get("attributes"));
    return c;
  }

  private static Object argument(Map<?, ?> head, byte[] body, boolean raw) {
    Object form = head.get("takes");
    if (form.equals("shaped")) return raw ? body : value("", body, 0, body.length, false);
    Map<?, ?> r = (Map<?, ?>) head.get("request");
    if (r != null) {
      Map<String, Object> headers = new LinkedHashMap<>();
      for (Object h : (List<?>) r.get("headers")) {
        String n = ((String) ((List<?>) h).get(0)).toLowerCase(java.util.Locale.ROOT);
        Object v = ((List<?>) h).get(1);
        headers.put(n, headers.containsKey(n) ? headers.get(n) + ", " + v : v);
      }
      Object kind = headers.get("content-type");
      boolean data = form.equals("data");
      Object content = body.length == 0 && !(data && raw) ? null : value(kind, body, 0, body.length, data && raw);
      if (data) return content;
      String target = (String) r.get("target");
      int at = target.indexOf('?');
      Map<String, Object> query = new LinkedHashMap<>();
      if (at >= 0) {
        for (String part : target.substring(at + 1).split("&")) {
          int eq = part.indexOf('=');
          if (!part.isEmpty()) query.put(plain(eq < 0 ? part : part.substring(0, eq)), eq < 0 ? "" : plain(part.substring(eq + 1)));
        }
      }
      Map<String, Object> out = new LinkedHashMap<>();
      out.put("method", r.get("method"));
      out.put("path", at < 0 ? target : target.substring(0, at));
      out.put("query", query);
      out.put("headers", headers);
      out.put("body", content);
      return out;
    }
    List<Object> all = new ArrayList<>();
    int at = 0;
    boolean batch = Boolean.TRUE.equals(head.get("batch"));
    for (Object x : (List<?>) head.get("events")) {
      Map<?, ?> e = (Map<?, ?>) x;
      int size = ((Number) e.get("size")).intValue();
      Map<?, ?> attributes = (Map<?, ?>) e.get("attributes");
      boolean data = form.equals("data");
      Object v = value(attributes.get("datacontenttype"), body, at, size, data && raw && !batch);
      at += size;
      if (!data) {
        Map<String, Object> whole = new LinkedHashMap<>();
        for (Map.Entry<?, ?> a : attributes.entrySet()) whole.put((String) a.getKey(), a.getValue());
        whole.put("data", v);
        v = whole;
      }
      all.add(v);
    }
    return batch ? all : all.get(0);
  }

  private static String plain(String s) {
    try {
      return java.net.URLDecoder.decode(s, StandardCharsets.UTF_8);
    } catch (IllegalArgumentException e) {
      return s;
    }
  }

  /** value returns data as a value: JSON is read, other bytes stay bytes. */
  private static Object value(Object kind, byte[] body, int from, int size, boolean raw) {
    if (!raw) {
      String k = kind == null ? "" : (String) kind;
      int end = k.indexOf(';');
      if (end >= 0) k = k.substring(0, end);
      k = k.trim().toLowerCase(java.util.Locale.ROOT);
      if (k.isEmpty() || k.equals("application/json") || k.endsWith("+json")) {
        if (size == 0) return null;
        try {
          return Json.read(body, from, size);
        } catch (Json.Wrong e) {
          // bytes, then
        }
      }
    }
    return java.util.Arrays.copyOfRange(body, from, from + size);
  }

  private void hello(Map<String, Object> error) throws IOException {
    Map<String, Object> hello = new LinkedHashMap<>();
    hello.put("error", error);
    send(0, hello, new byte[0], 0);
  }

  private void fail(int number, Map<String, Object> error, long user) throws IOException {
    if (error.get("file").equals("")) {
      error.put("file", Finder.source(method.getDeclaringClass()));
      error.put("line", Finder.line((String) error.get("file"), method.getName()));
    }
    Map<String, Object> reply = new LinkedHashMap<>();
    reply.put("kind", "error");
    reply.put("error", error);
    send(number, reply, new byte[0], user);
  }

  private void send(int number, Map<String, Object> head, byte[] body, long user) throws IOException {
    if (number != 0) head.put("user_ns", user);
    StringBuilder text = new StringBuilder();
    try {
      Json.write(text, head, 0);
    } catch (ReflectiveOperationException e) {
      throw new IllegalStateException(e); // the head is maps, lists, texts and numbers
    }
    byte[] h = text.toString().getBytes(StandardCharsets.UTF_8);
    byte[] all = new byte[12 + h.length + body.length];
    int[] numbers = {number, h.length, body.length};
    for (int i = 0; i < 12; i++) all[i] = (byte) (numbers[i / 4] >>> 24 - 8 * (i % 4));
    System.arraycopy(h, 0, all, 12, h.length);
    System.arraycopy(body, 0, all, 12 + h.length, body.length);
    synchronized (this) {
      out.write(all);
    }
  }
}
