package nightdrill;

import java.lang.reflect.Array;
import java.lang.reflect.Constructor;
import java.lang.reflect.Field;
import java.lang.reflect.GenericArrayType;
import java.lang.reflect.InvocationHandler;
import java.lang.reflect.InvocationTargetException;
import java.lang.reflect.Method;
import java.lang.reflect.Modifier;
import java.lang.reflect.ParameterizedType;
import java.lang.reflect.Proxy;
import java.lang.reflect.RecordComponent;
import java.lang.reflect.Type;
import java.lang.reflect.WildcardType;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.Set;

/** Values of JSON as the types of the user's code, and back. Handlers that take maps and return maps need none of it. */
final class Values {
  private Values() {}

  /** Misfit is a value that does not fit a type, and where it is (RFC 6901). */
  @SuppressWarnings("serial")
  static final class Misfit extends RuntimeException {
    Misfit(String at, String message) { super((at.isEmpty() ? "" : "at " + at + ": ") + message, null, false, false); }
  }

  static Object to(Object v, Type type, String at) throws ReflectiveOperationException {
    if (type instanceof Class) return toClass(v, (Class<?>) type, new Type[0], at);
    if (type instanceof ParameterizedType) {
      ParameterizedType p = (ParameterizedType) type;
      return toClass(v, (Class<?>) p.getRawType(), p.getActualTypeArguments(), at);
    }
    if (type instanceof WildcardType) return to(v, ((WildcardType) type).getUpperBounds()[0], at);
    if (type instanceof GenericArrayType) return toArray(v, ((GenericArrayType) type).getGenericComponentType(), at);
    return v; // a variable of the class: whatever it is
  }

  @SuppressWarnings("unchecked")
  private static Object toClass(Object v, Class<?> c, Type[] of, String at) throws ReflectiveOperationException {
    Type last = of.length > 0 ? of[of.length - 1] : Object.class;
    if (c == Optional.class) return Optional.ofNullable(v == null ? null : to(v, last, at));
    if (v == null) {
      if (c.isPrimitive()) throw new Misfit(at, "null is not " + article(c));
      return null;
    }
    if (c == Object.class) return v;
    if (Map.class.isAssignableFrom(c) && v instanceof Map) {
      if (last == Object.class && c.isInstance(v)) return v;
      Map<Object, Object> out = c.isInterface() ? new LinkedHashMap<>() : made(c, Map.class);
      for (Map.Entry<?, ?> e : ((Map<?, ?>) v).entrySet()) {
        out.put(of.length > 1 ? to(e.getKey(), of[0], at) : e.getKey(), to(e.getValue(), last, at + "/" + e.getKey()));
      }
      return out;
    }
    if (v instanceof List && (c.isArray() || Iterable.class.isAssignableFrom(c))) {
      if (c.isArray()) return toArray(v, c.getComponentType(), at);
      if (last == Object.class && c.isInstance(v)) return v;
      Collection<Object> out = Set.class.isAssignableFrom(c) ? new LinkedHashSet<>()
          : c.isInterface() ? new ArrayList<>() : made(c, Collection.class);
      int i = 0;
      for (Object x : (List<?>) v) out.add(to(x, last, at + "/" + i++));
      return out;
    }
    if (v instanceof Number && (c.isPrimitive() || Number.class.isAssignableFrom(c))) return toNumber((Number) v, c, at);
    if (v instanceof Boolean && (c == boolean.class || c == Boolean.class)) return v;
    if (v instanceof String) {
      String s = (String) v;
      if (c.isInstance(s)) return s;
      if ((c == char.class || c == Character.class) && s.length() == 1) return s.charAt(0);
      if (c == byte[].class) {
        try {
          return java.util.Base64.getDecoder().decode(s);
        } catch (IllegalArgumentException e) {
          throw new Misfit(at, "the text is not base64");
        }
      }
      if (c.isEnum()) {
        for (Object x : c.getEnumConstants()) if (((Enum<?>) x).name().equals(s)) return x;
        throw new Misfit(at, "\"" + s + "\" is none of " + Arrays.toString(c.getEnumConstants()));
      }
      Object made = Number.class.isAssignableFrom(c) || c == Boolean.class ? null : parsed(s, c, at);
      if (made != null) return made;
    }
    if (v instanceof byte[] && c == byte[].class) return v;
    if (v instanceof byte[] && c.isAssignableFrom(String.class)) {
      return new String((byte[]) v, java.nio.charset.StandardCharsets.UTF_8);
    }
    if (v instanceof Map && !c.isArray() && !c.isPrimitive() && !c.isEnum() && !c.getName().startsWith("java.")) {
      Map<String, Object> m = strings((Map<?, ?>) v);
      if (c.isRecord()) return toRecord(m, c, at);
      if (c.isInterface()) return proxy(m, c, at);
      return toBean(m, c, at);
    }
    throw new Misfit(at, kind(v) + " is not " + article(c));
  }

  @SuppressWarnings("unchecked")
  private static Map<String, Object> strings(Map<?, ?> m) { return (Map<String, Object>) m; }

  private static <T> T made(Class<?> c, Class<T> as) throws ReflectiveOperationException {
    Constructor<?> k = c.getDeclaredConstructor();
    k.setAccessible(true);
    return as.cast(k.newInstance());
  }

  private static Object toArray(Object v, Type of, String at) throws ReflectiveOperationException {
    if (v == null) return null;
    if (!(v instanceof List)) throw new Misfit(at, kind(v) + " is not a list");
    List<?> all = (List<?>) v;
    Class<?> c = (Class<?>) (of instanceof ParameterizedType ? ((ParameterizedType) of).getRawType() : of);
    Object out = Array.newInstance(c, all.size());
    for (int i = 0; i < all.size(); i++) Array.set(out, i, to(all.get(i), of, at + "/" + i));
    return out;
  }

  private static Object toNumber(Number n, Class<?> c, String at) {
    if (c == Number.class || c.isInstance(n)) return n;
    if (c == double.class || c == Double.class) return n.doubleValue();
    if (c == float.class || c == Float.class) return n.floatValue();
    BigDecimal exact = new BigDecimal(n.toString());
    if (c == BigDecimal.class) return exact;
    try {
      if (c == int.class || c == Integer.class) return exact.intValueExact();
      if (c == long.class || c == Long.class) return exact.longValueExact();
      if (c == short.class || c == Short.class) return exact.shortValueExact();
      if (c == byte.class || c == Byte.class) return exact.byteValueExact();
      if (c == BigInteger.class) return exact.toBigIntegerExact();
    } catch (ArithmeticException e) {
      throw new Misfit(at, n + " does not fit into " + article(c));
    }
    throw new Misfit(at, "a number is not " + article(c));
  }

  /** parsed makes a value of a text, by what the class has for that: parse, fromString, or create. */
  private static Object parsed(String s, Class<?> c, String at) throws ReflectiveOperationException {
    for (Method m : c.getMethods()) {
      String name = m.getName();
      if (Modifier.isStatic(m.getModifiers()) && c.isAssignableFrom(m.getReturnType()) && m.getParameterCount() == 1
          && m.getParameterTypes()[0].isInstance(s)
          && (name.equals("parse") || name.equals("fromString") || name.equals("create") || name.equals("valueOf"))) {
        try {
          m.setAccessible(true);
          return m.invoke(null, s);
        } catch (InvocationTargetException e) {
          throw new Misfit(at, "\"" + s + "\" is not " + article(c) + ": " + e.getCause().getMessage());
        } catch (RuntimeException e) { // it is not open to us
          return null;
        }
      }
    }
    return null;
  }

  private static Object toRecord(Map<String, Object> m, Class<?> c, String at) throws ReflectiveOperationException {
    RecordComponent[] parts = c.getRecordComponents();
    Class<?>[] types = new Class<?>[parts.length];
    Object[] values = new Object[parts.length];
    for (int i = 0; i < parts.length; i++) {
      types[i] = parts[i].getType();
      String name = parts[i].getName();
      values[i] = m.containsKey(name) ? to(m.get(name), parts[i].getGenericType(), at + "/" + name) : none(types[i]);
    }
    Constructor<?> k = c.getDeclaredConstructor(types);
    k.setAccessible(true);
    try {
      return k.newInstance(values);
    } catch (InvocationTargetException e) { // a check of the record's own
      throw new Misfit(at, e.getCause().toString());
    }
  }

  private static Object none(Class<?> c) throws ReflectiveOperationException {
    return c.isPrimitive() ? Array.get(Array.newInstance(c, 1), 0) : c == Optional.class ? Optional.empty() : null;
  }

  private static Object toBean(Map<String, Object> m, Class<?> c, String at) throws ReflectiveOperationException {
    Object out;
    try {
      out = made(c, c);
    } catch (NoSuchMethodException | InstantiationException e) {
      throw new Misfit(at, c.getSimpleName() + " has no constructor without parameters");
    }
    Set<String> done = new HashSet<>();
    for (Method s : c.getMethods()) {
      String name = property(s.getName(), "set");
      if (name != null && s.getParameterCount() == 1 && m.containsKey(name) && done.add(name)) {
        s.setAccessible(true);
        Object value = to(m.get(name), s.getGenericParameterTypes()[0], at + "/" + name);
        try {
          s.invoke(out, value);
        } catch (InvocationTargetException e) { // a check of its own
          throw new Misfit(at + "/" + name, e.getCause().toString());
        }
      }
    }
    for (Class<?> of = c; of != Object.class; of = of.getSuperclass()) {
      for (Field f : of.getDeclaredFields()) {
        if (m.containsKey(f.getName()) && !Modifier.isStatic(f.getModifiers()) && done.add(f.getName())) {
          f.setAccessible(true);
          f.set(out, to(m.get(f.getName()), f.getGenericType(), at + "/" + f.getName()));
        }
      }
    }
    return out;
  }

  /** property returns the name that an accessor is for; null for none. */
  static String property(String method, String prefix) {
    int n = prefix.length();
    if (method.length() <= n || !method.startsWith(prefix) || !Character.isUpperCase(method.charAt(n))) return null;
    return Character.toLowerCase(method.charAt(n)) + method.substring(n + 1);
  }

  /** proxy answers an interface of the user's from a map: attempt() and getAttempt() are its "attempt". */
  static Object proxy(final Map<String, Object> m, final Class<?> c, final String at) {
    return Proxy.newProxyInstance(c.getClassLoader(), new Class<?>[] {c}, new InvocationHandler() {
      @Override
      public Object invoke(Object self, Method method, Object[] given) throws Throwable {
        String name = method.getName();
        if (method.getDeclaringClass() == Object.class) {
          return name.equals("equals") ? (Object) (self == given[0]) : name.equals("hashCode") ? (Object) m.hashCode()
              : m.toString();
        }
        String get = property(name, "get");
        String is = property(name, "is");
        for (String key : new String[] {name, get, is}) {
          if (key != null && m.containsKey(key)) {
            Object v = m.get(key);
            return to(v instanceof Left ? ((Left) v).ms() : v, method.getGenericReturnType(), at + "/" + key);
          }
        }
        if (method.isDefault()) return InvocationHandler.invokeDefault(self, method, given);
        if (m.get("leftMs") instanceof Left) {
          throw new UnsupportedOperationException("the context has no " + name + "; it has " + m.keySet());
        }
        return none(method.getReturnType());
      }
    });
  }

  /** Left is the time that is left, worked out when it is read. */
  static final class Left {
    private final long until;

    Left(double ms) { until = System.nanoTime() + (long) (ms * 1e6); }

    Double ms() { return Math.max(0, (until - System.nanoTime()) / 1e6); }
  }

  /** write appends a value of a class of the user's: a record's components, what its getters return, its fields. */
  static void write(StringBuilder out, Object v, int depth) throws ReflectiveOperationException {
    Class<?> c = v.getClass();
    if (v instanceof Optional) {
      Json.write(out, ((Optional<?>) v).orElse(null), depth);
      return;
    }
    if (c.getName().startsWith("java.")) {
      if (!(v instanceof java.time.temporal.TemporalAccessor) && !(v instanceof java.time.temporal.TemporalAmount)
          && !(v instanceof java.util.UUID) && !(v instanceof java.net.URI)) {
        throw new Json.Wrong(article(c) + " has no form in JSON");
      }
      Json.quote(out, v.toString());
      return;
    }
    Map<String, Object> all = new LinkedHashMap<>();
    try {
      if (c.isRecord()) {
        for (RecordComponent p : c.getRecordComponents()) {
          p.getAccessor().setAccessible(true);
          all.put(p.getName(), p.getAccessor().invoke(v));
        }
      } else {
        Map<String, Method> getters = new java.util.TreeMap<>();
        for (Method m : c.getMethods()) {
          String name = property(m.getName(), "get");
          if (name == null && (m.getReturnType() == boolean.class || m.getReturnType() == Boolean.class)) {
            name = property(m.getName(), "is");
          }
          if (name != null && m.getParameterCount() == 0 && !Modifier.isStatic(m.getModifiers())
              && m.getDeclaringClass() != Object.class) getters.put(name, m);
        }
        for (Field f : c.getFields()) if (!Modifier.isStatic(f.getModifiers())) {
          f.setAccessible(true);
          all.put(f.getName(), f.get(v));
        }
        for (Map.Entry<String, Method> e : getters.entrySet()) {
          e.getValue().setAccessible(true);
          all.put(e.getKey(), e.getValue().invoke(v));
        }
        if (all.isEmpty()) throw new Json.Wrong(article(c) + " has no public fields or getters");
      }
    } catch (InvocationTargetException e) {
      throw new Json.Wrong("a getter of " + c.getSimpleName() + " failed: " + e.getCause());
    }
    Json.write(out, all, depth);
  }

  static String kind(Object v) {
    return v instanceof Map ? "an object" : v instanceof List ? "a list" : v instanceof String ? "a text"
        : v instanceof Boolean ? "true or false" : v instanceof Number ? "a number" : v == null ? "null" : "data";
  }

  /** name returns a type as it is written in a source that imports it. */
  static String name(Type t) { return t.getTypeName().replaceAll("[\\w.]+[.$](?=[A-Z])", ""); }

  private static String article(Class<?> c) {
    String name = c.getSimpleName();
    return ("aeiouAEIOU".indexOf(name.charAt(0)) >= 0 ? "an " : "a ") + name;
  }
}
