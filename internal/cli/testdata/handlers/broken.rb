def f(event)
  (
end
